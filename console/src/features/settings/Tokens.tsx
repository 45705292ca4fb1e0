import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { type Schemas, api, told } from "../../shared/api/client";
import { type Role, meQuery } from "../../shared/api/me";
import { Told, Typed } from "../../shared/form/Typed";
import { Time, day } from "../../shared/ui/format";
import { Failure, Shown } from "../../shared/ui/states";
import { RolePick } from "./RolePick";
import { tokensQuery } from "./queries";

/** Makes a token; what it is is shown this once. */
function AddToken({ me, onMade, onDone }: { me: Schemas["Me"]; onMade: (token: string) => void; onDone: () => void }) {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const [role, setRole] = useState<Role>("viewer");
  const [days, setDays] = useState("90");
  const [program, setProgram] = useState(!me.user);
  const add = useMutation({
    mutationFn: () => told(api.POST("/api/v1/tokens", { body: { name, role, program, ...(days.trim() && { days: Number(days) }) } })),
    onSuccess: async ({ token }) => {
      await client.invalidateQueries({ queryKey: ["live"] });
      onMade(token);
    },
  });
  return (
    <form
      className="grid gap-3 px-4 py-3 sm:grid-cols-3"
      onSubmit={(event) => {
        event.preventDefault();
        add.mutate();
      }}
    >
      <Typed label="Name of the token" autoComplete="off" value={name} onChange={(typed) => setName(typed.toLowerCase())} />
      <RolePick role={role} most={me.role} onRole={setRole} />
      <Typed label="Days" inputMode="numeric" autoComplete="off" value={days} onChange={(typed) => setDays(typed.replaceAll(/\D/g, ""))} hint="It counts so long; empty: for ever" />
      {me.role === "owner" && me.user && (
        <label className="flex items-center gap-2 sm:col-span-3">
          <input type="checkbox" className="checkbox checkbox-sm" checked={program} onChange={(event) => setProgram(event.target.checked)} />
          It is a program's: it stays when I go, and records tell its name in place of mine
        </label>
      )}
      <div className="sm:col-span-3">
        <Told error={add.error} />
      </div>
      <p className="flex gap-2 sm:col-span-3">
        <button type="submit" className="btn btn-sm btn-primary" disabled={!name || add.isPending}>
          Make it
        </button>
        <button type="button" className="btn btn-ghost btn-sm" onClick={onDone}>
          Cancel
        </button>
      </p>
    </form>
  );
}

/** What programs sign in with. */
export function Tokens() {
  const client = useQueryClient();
  const tokens = useQuery(tokensQuery);
  const { data: me } = useQuery(meQuery);
  const [adding, setAdding] = useState(false);
  const [made, setMade] = useState<string>();
  const remove = useMutation({
    mutationFn: (name: string) => told(api.DELETE("/api/v1/tokens/{name}", { params: { path: { name } } })),
    onSettled: () => client.invalidateQueries({ queryKey: ["live"] }),
  });
  return (
    <Shown query={tokens}>
      {(list) => (
        <>
          {remove.error && <Failure error={remove.error} />}
          {list.map((token) => (
            <p key={token.name} className="flex flex-wrap items-center gap-x-4 gap-y-1 px-4 py-2">
              <span className="file font-semibold">{token.name}</span>
              <span className="badge badge-soft">{token.role}</span>
              <span className="quiet w-full min-w-0 text-sm sm:w-auto sm:flex-1">
                {token.user ? `of ${token.user}` : `a program's, made by ${token.maker}`} · {token.ends ? `until ${day(token.ends)}` : "for ever"} ·{" "}
                {token.used ? <>used <Time at={token.used} /></> : "never used"}
              </span>
              <button type="button" className="btn btn-ghost btn-xs" aria-label={`Remove the token ${token.name}`} disabled={remove.isPending} onClick={() => remove.mutate(token.name)}>
                Remove
              </button>
            </p>
          ))}
          {made && (
            <section aria-label="The new token" className="bg-base-200 grid gap-2 px-4 py-3">
              <p>This is the token. It is not shown again; a program gives it as a bearer token, a command as WETBANK_TOKEN.</p>
              <code className="file [overflow-wrap:anywhere]">{made}</code>
              <button type="button" className="btn btn-ghost btn-sm justify-self-start" onClick={() => setMade(undefined)}>
                Done
              </button>
            </section>
          )}
          {adding && me ? (
            <AddToken
              me={me}
              onMade={(token) => {
                setAdding(false);
                setMade(token);
              }}
              onDone={() => setAdding(false)}
            />
          ) : (
            <p className="px-4 py-3">
              <button type="button" className="btn btn-sm" onClick={() => setAdding(true)}>
                Make a token
              </button>
            </p>
          )}
        </>
      )}
    </Shown>
  );
}
