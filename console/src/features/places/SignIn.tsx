import { useMutation, useQuery } from "@tanstack/react-query";

import { type Place, api, told } from "../../shared/api/client";

const states: Record<string, string> = {
  never: "Nobody has signed in yet.",
  waiting: "Somebody is asked to sign in now.",
  agreed: "Signed in.",
  failed: "Signing in came to nothing.",
};

/** What a connection will be allowed to do, before anybody agrees to it, and the way to agree. */
export function SignIn({ place }: { place: Place }) {
  const offer = useQuery({
    queryKey: ["live", "sign-in", place.name],
    queryFn: () => told(api.GET("/api/v1/places/{name}/sign-in", { params: { path: { name: place.name } } })),
  });
  const begin = useMutation({
    mutationFn: () => told(api.POST("/api/v1/places/{name}/sign-in", { params: { path: { name: place.name } }, body: { by_code: false } })),
    // The server's own page: it leads back here.
    onSuccess: (begun) => window.location.assign(begun.page),
  });
  const asked = offer.data;
  if (!asked) return null;
  const missing = asked.granted ? asked.rights.filter((right) => !asked.granted?.includes(right.right)) : [];
  const again = asked.state === "agreed";
  return (
    <section className="panel" aria-label="Sign in">
      <div className="px-4 py-3">
      <h2 className="pb-1 text-sm font-semibold">{states[asked.state] ?? asked.state}</h2>
      {asked.why && <p className="text-error pb-2 [overflow-wrap:anywhere]">{asked.why}</p>}
      {missing.length > 0 && <p className="text-warning pb-2">Not given: {missing.map((right) => right.meaning ?? right.right).join(", ")}.</p>}
      <p className="text-sm">
        {again ? "It was asked" : "Wetbank asks"} <span className="file [overflow-wrap:anywhere]">{asked.server}</span> for the right to
      </p>
      <ul className="list-disc py-1 pl-5 text-sm">
        {asked.rights.map((right) => (
          <li key={right.right}>
            {right.meaning ?? right.right} {right.meaning && <span className="quiet file">{right.right}</span>}
          </li>
        ))}
        {asked.rights.length === 0 && <li>whatever the server gives without being asked</li>}
      </ul>
      <button type="button" className={`btn btn-sm mt-1 ${again ? "" : "btn-primary"}`} disabled={begin.isPending} onClick={() => begin.mutate()}>
        {again ? "Sign in again" : "Sign in"}
      </button>
      {begin.error && (
        <p role="alert" className="text-error pt-2 [overflow-wrap:anywhere]">
          {begin.error.message}
        </p>
      )}
      </div>
    </section>
  );
}
