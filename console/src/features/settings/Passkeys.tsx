import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, told } from "../../shared/api/client";
import { makePasskey, passkeysWork } from "../../shared/api/passkeys";
import { Told, Typed } from "../../shared/form/Typed";
import { Time } from "../../shared/ui/format";
import { Shown } from "../../shared/ui/states";
import { passkeysQuery } from "./queries";

/** One's passkeys, and another one. */
export function Passkeys() {
  const client = useQueryClient();
  const [title, setTitle] = useState("");
  const done = () => client.invalidateQueries({ queryKey: ["live"] });
  const make = useMutation({
    mutationFn: async () => {
      const asked = await told(api.POST("/api/v1/me/passkeys/new"));
      await told(api.POST("/api/v1/me/passkeys", { body: { id: asked.id, title, credential: await makePasskey(asked) } }));
    },
    onSuccess: async () => {
      setTitle("");
      await done();
    },
  });
  const remove = useMutation({ mutationFn: (id: string) => told(api.DELETE("/api/v1/me/passkeys/{id}", { params: { path: { id } } })), onSettled: done });
  return (
    <Shown query={useQuery(passkeysQuery)}>
      {(list) => (
        <>
          {list.map((one) => (
            <p key={one.id} className="flex flex-wrap items-center gap-x-4 gap-y-1 px-4 py-2">
              <b className="min-w-0 [overflow-wrap:anywhere]">{one.title}</b>
              <span className="quiet min-w-0 flex-1 text-sm">
                made <Time at={one.made} /> · {one.used ? <>opened <Time at={one.used} /></> : "never used"}
              </span>
              <button type="button" className="btn btn-ghost btn-xs" aria-label={`Remove the passkey ${one.title}`} disabled={remove.isPending} onClick={() => remove.mutate(one.id)}>
                Remove
              </button>
            </p>
          ))}
          {passkeysWork() ? (
            <form
              className="grid gap-3 px-4 py-3"
              onSubmit={(event) => {
                event.preventDefault();
                make.mutate();
              }}
            >
              <Typed label="What it is called" autoComplete="off" value={title} onChange={setTitle} hint="As the device: desk, phone. The device asks for finger, face or PIN." />
              <Told error={make.error ?? remove.error} />
              <button type="submit" className="btn btn-sm justify-self-start" disabled={make.isPending}>
                Make a passkey
              </button>
            </form>
          ) : (
            <p className="quiet px-4 py-3">This browser makes none here: passkeys need the console to be open by a host name and over https.</p>
          )}
        </>
      )}
    </Shown>
  );
}
