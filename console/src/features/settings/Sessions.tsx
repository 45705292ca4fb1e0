import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { ApiError, api, told } from "../../shared/api/client";
import { Time } from "../../shared/ui/format";
import { Failure, Shown } from "../../shared/ui/states";
import { sessionsQuery } from "./queries";

/** What a browser says that it is, shortly. */
function browser(agent: string): string {
  const name = ["Firefox", "Edg", "OPR", "Chrome", "Safari", "curl"].find((one) => agent.includes(one)) ?? "a browser";
  const system = ["Windows", "Android", "iPhone", "iPad", "Mac OS", "Linux"].find((one) => agent.includes(one));
  return system ? `${name} on ${system}` : name;
}

/** Browsers that are signed in: one's own, or everybody's. */
export function Sessions({ all }: { all: boolean }) {
  const client = useQueryClient();
  const sessions = useQuery(sessionsQuery(all));
  const end = useMutation({
    mutationFn: async (id: number) => {
      try {
        await told(api.DELETE("/api/v1/sessions/{id}", { params: { path: { id } } }));
      } catch (error) {
        // It ended by itself meanwhile.
        if (!(error instanceof ApiError && error.problem.status === 404)) throw error;
      }
    },
    onSettled: () => client.invalidateQueries({ queryKey: ["live"] }),
  });
  return (
    <Shown query={sessions}>
      {(list) => (
        <>
          {end.error && <Failure error={end.error} />}
          {list.map((one) => (
            <p key={one.id} className="flex flex-wrap items-center gap-x-4 gap-y-1 px-4 py-2">
              {all && <b className="min-w-0 [overflow-wrap:anywhere]">{one.who}</b>}
              <span title={one.agent}>{browser(one.agent)}</span>
              <span className="quiet w-full min-w-0 text-sm sm:w-auto sm:flex-1">
                from {one.address} · by {one.how} <Time at={one.began} /> · seen <Time at={one.seen} />
              </span>
              {one.own ? (
                <span className="badge badge-soft">this one</span>
              ) : (
                <button type="button" className="btn btn-ghost btn-xs" aria-label={`End session ${one.id}`} disabled={end.isPending} onClick={() => end.mutate(one.id)}>
                  End
                </button>
              )}
            </p>
          ))}
        </>
      )}
    </Shown>
  );
}
