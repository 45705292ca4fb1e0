import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { type Schemas, api, told } from "../../shared/api/client";
import { Told, Typed } from "../../shared/form/Typed";
import { Failure, Shown } from "../../shared/ui/states";
import { providerQuery } from "./queries";

/** Names the provider; it is asked at once whether it is there. */
function Named({ known, onDone }: { known: Schemas["Provider"] | null; onDone: () => void }) {
  const client = useQueryClient();
  const [title, setTitle] = useState(known?.title ?? "");
  const [issuer, setIssuer] = useState(known?.issuer ?? "");
  const [called, setCalled] = useState(known?.client ?? "");
  const [secret, setSecret] = useState("");
  const put = useMutation({
    mutationFn: () => told(api.PUT("/api/v1/provider", { body: { title, issuer, client: called, ...(secret && { secret }) } })),
    onSuccess: async () => {
      setSecret("");
      await client.invalidateQueries({ queryKey: ["live"] });
      onDone();
    },
  });
  return (
    <form
      className="grid gap-3 px-4 py-3 sm:grid-cols-2"
      onSubmit={(event) => {
        event.preventDefault();
        put.mutate();
      }}
    >
      <Typed label="How people call it" autoComplete="off" value={title} onChange={setTitle} hint="It stands on the button: Merrow office" />
      <Typed label="Its address" autoComplete="off" value={issuer} onChange={setIssuer} hint="The issuer, as it names itself: https://id.merrow.example" />
      <Typed label="Client" autoComplete="off" value={called} onChange={setCalled} hint="What it calls this service" />
      <Typed label="Secret" type="password" autoComplete="off" value={secret} onChange={setSecret} hint={known ? "Empty: the one that is kept" : "It goes in and never comes out again"} />
      <p className="quiet text-sm sm:col-span-2">
        There, enter as the address to come back to: <code className="file [overflow-wrap:anywhere]">{`${window.location.origin}/signed-in-by`}</code>
      </p>
      <div className="sm:col-span-2">
        <Told error={put.error} />
      </div>
      <p className="flex gap-2 sm:col-span-2">
        <button type="submit" className="btn btn-sm btn-primary" disabled={!title || !issuer || !called || put.isPending}>
          Ask it and keep it
        </button>
        <button type="button" className="btn btn-ghost btn-sm" onClick={onDone}>
          Cancel
        </button>
      </p>
    </form>
  );
}

/** The provider that vouches for people here. */
export function Provider() {
  const client = useQueryClient();
  const [naming, setNaming] = useState(false);
  const remove = useMutation({ mutationFn: () => told(api.DELETE("/api/v1/provider")), onSettled: () => client.invalidateQueries({ queryKey: ["live"] }) });
  return (
    <Shown query={useQuery(providerQuery)}>
      {(known) => (
        <>
          {remove.error && <Failure error={remove.error} />}
          {naming ? (
            <Named known={known} onDone={() => setNaming(false)} />
          ) : (
            <p className="flex flex-wrap items-center gap-x-4 gap-y-1 px-4 py-3">
              <span className="min-w-0 flex-1">
                {known ? (
                  <>
                    <b>{known.title}</b> <span className="file quiet text-sm [overflow-wrap:anywhere]">{known.issuer}</span>
                  </>
                ) : (
                  <span className="quiet">None: people sign in with what they have here.</span>
                )}
              </span>
              <button type="button" className="btn btn-sm" onClick={() => setNaming(true)}>
                {known ? "Change" : "Name a provider"}
              </button>
              {known && (
                <button type="button" className="btn btn-ghost btn-sm" disabled={remove.isPending} onClick={() => remove.mutate()}>
                  Remove the provider
                </button>
              )}
            </p>
          )}
        </>
      )}
    </Shown>
  );
}
