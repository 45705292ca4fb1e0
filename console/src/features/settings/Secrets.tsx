import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useId, useState } from "react";

import { api, told } from "../../shared/api/client";
import { Time } from "../../shared/ui/format";
import { Failure, Shown } from "../../shared/ui/states";
import { secretsQuery } from "./queries";
import { May } from "../../shared/ui/May";

/** Sets a secret; what was typed is gone from the page with it. */
function SetSecret({ name: known, onDone }: { name: string; onDone: () => void }) {
  const client = useQueryClient();
  const id = useId();
  const [name, setName] = useState(known);
  const [value, setValue] = useState("");
  const set = useMutation({
    mutationFn: () => told(api.PUT("/api/v1/secrets/{name}", { params: { path: { name } }, body: { value } })),
    onSuccess: async () => {
      setValue("");
      await client.invalidateQueries({ queryKey: ["live"] });
      onDone();
    },
  });
  return (
    <form
      className="grid gap-2 px-4 py-3 sm:grid-cols-[1fr_2fr_auto_auto] sm:items-end"
      onSubmit={(event) => {
        event.preventDefault();
        set.mutate();
      }}
    >
      <label htmlFor={`${id}-name`} className="grid gap-1 text-sm">
        Name of the secret
        <input id={`${id}-name`} className="input input-sm file w-full" required pattern="[a-z0-9][a-z0-9_\\-]{0,63}" value={name} disabled={known !== ""} onChange={(event) => setName(event.target.value)} />
      </label>
      <label htmlFor={`${id}-value`} className="grid gap-1 text-sm">
        Its value
        <textarea id={`${id}-value`} className="textarea file min-h-0 w-full [-webkit-text-security:disc]" rows={1} required autoComplete="off" spellCheck={false} value={value} onChange={(event) => setValue(event.target.value)} />
      </label>
      <button type="submit" className="btn btn-sm btn-primary" disabled={set.isPending}>
        Set
      </button>
      <button type="button" className="btn btn-ghost btn-sm" onClick={onDone}>
        Cancel
      </button>
      {set.error && (
        <p role="alert" className="text-error sm:col-span-4">
          {set.error.message}
        </p>
      )}
    </form>
  );
}

/** The names of secrets, and what needs them. */
export function Secrets() {
  const client = useQueryClient();
  const secrets = useQuery(secretsQuery);
  const [setting, setSetting] = useState<string>();
  const remove = useMutation({
    mutationFn: (name: string) => told(api.DELETE("/api/v1/secrets/{name}", { params: { path: { name } } })),
    onSettled: () => client.invalidateQueries({ queryKey: ["live"] }),
  });
  return (
    <>
      {remove.error && <Failure error={remove.error} />}
      <Shown query={secrets}>
        {(list) => (
          <>
            {list.map(({ name, changed, needed_by }) => (
              <div key={name} className="grid gap-1 px-4 py-2">
                <p className="flex flex-wrap items-center gap-x-4 gap-y-1">
                  <span className="file font-semibold">{name}</span>
                  <span className={changed ? "quiet text-sm" : "text-error text-sm"}>{changed ? <>set <Time at={changed} /></> : "! needed, and not set"}</span>
                  <span className="quiet min-w-0 flex-1 text-sm [overflow-wrap:anywhere]">
                    {needed_by.length === 0 ? "nothing needs it" : `needed by ${needed_by.map((by) => `${by.kind} ${by.name}`).join(", ")}`}
                  </span>
                  <May as="manager">
                    <button type="button" className="btn btn-xs" aria-label={`Set the secret ${name}`} onClick={() => setSetting(name)}>
                      Set…
                    </button>
                  </May>
                  {needed_by.length === 0 && (
                    <button type="button" className="btn btn-ghost btn-xs" aria-label={`Remove the secret ${name}`} disabled={remove.isPending} onClick={() => remove.mutate(name)}>
                      Remove
                    </button>
                  )}
                </p>
                {setting === name && <SetSecret name={name} onDone={() => setSetting(undefined)} />}
              </div>
            ))}
            {setting === "" ? (
              <SetSecret name="" onDone={() => setSetting(undefined)} />
            ) : (
              <p className="px-4 py-3">
                <button type="button" className="btn btn-sm" onClick={() => setSetting("")}>
                  Add a secret
                </button>
              </p>
            )}
          </>
        )}
      </Shown>
    </>
  );
}
