import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useId, useState } from "react";

import { api, told } from "../../shared/api/client";
import { DropFile } from "../../shared/ui/DropFile";
import { day } from "../../shared/ui/format";
import { Failure, Shown } from "../../shared/ui/states";
import { keysQuery } from "./queries";
import { May } from "../../shared/ui/May";

interface Dropped {
  /** Armoured, or bytes in base64. */
  text: string;
  base64: string | null;
  from: string;
}

async function readKey(file: File): Promise<Dropped> {
  const bytes = new Uint8Array(await file.arrayBuffer());
  const text = new TextDecoder().decode(bytes);
  if (text.includes("-----BEGIN PGP")) return { text, base64: null, from: file.name };
  let binary = "";
  for (const byte of bytes) binary += String.fromCharCode(byte);
  return { text: "", base64: btoa(binary), from: file.name };
}

const nameOf = (file: string): string =>
  file
    .replace(/\.[^.]*$/, "")
    .toLowerCase()
    .replaceAll(/[^a-z0-9_-]+/g, "-")
    .replaceAll(/^-+|-+$/g, "");

/** Takes a key in: dropped, chosen or pasted. */
function Import() {
  const client = useQueryClient();
  const id = useId();
  const [key, setKey] = useState<Dropped>({ text: "", base64: null, from: "" });
  const [name, setName] = useState("");
  const [passphrase, setPassphrase] = useState("");
  const put = useMutation({
    mutationFn: () => told(api.PUT("/api/v1/keys/{name}", { params: { path: { name } }, body: { text: key.text, base64: key.base64, passphrase: passphrase || null } })),
    onSuccess: async () => {
      setKey({ text: "", base64: null, from: "" });
      setName("");
      setPassphrase("");
      await client.invalidateQueries({ queryKey: ["live"] });
    },
  });
  const take = async (file: File) => {
    setKey(await readKey(file));
    if (name === "") setName(nameOf(file.name));
  };
  return (
    <details className="px-4 py-3">
      <summary className="cursor-pointer font-semibold">Import a key</summary>
      <form
        className="grid max-w-2xl gap-3 pt-3"
        onSubmit={(event) => {
          event.preventDefault();
          put.mutate();
        }}
      >
        <DropFile label={key.from ? `${key.from} is read` : "Drop the key's file here, or choose it"} onFile={(file) => void take(file)} />
        <label htmlFor={`${id}-text`} className="grid gap-1 text-sm">
          or paste it
          <textarea id={`${id}-text`} className="textarea file w-full" rows={3} spellCheck={false} placeholder="-----BEGIN PGP PUBLIC KEY BLOCK-----" value={key.text} onChange={(event) => setKey({ text: event.target.value, base64: null, from: "" })} />
        </label>
        <div className="grid gap-3 sm:grid-cols-2">
          <label htmlFor={`${id}-name`} className="grid gap-1 text-sm">
            Name of the key
            <input id={`${id}-name`} className="input input-sm file w-full" required pattern="[a-z0-9][a-z0-9_\\-]{0,63}" value={name} onChange={(event) => setName(event.target.value)} />
          </label>
          <label htmlFor={`${id}-passphrase`} className="grid gap-1 text-sm">
            Passphrase, if it has a secret part
            <input id={`${id}-passphrase`} type="password" autoComplete="new-password" className="input input-sm w-full" value={passphrase} onChange={(event) => setPassphrase(event.target.value)} />
          </label>
        </div>
        {put.error && (
          <p role="alert" className="text-error [overflow-wrap:anywhere]">
            {put.error.message}
          </p>
        )}
        <p>
          <button type="submit" className="btn btn-sm btn-primary" disabled={put.isPending || (key.text === "" && key.base64 === null)}>
            Import
          </button>
        </p>
      </form>
    </details>
  );
}

/** OpenPGP keys, with their end. */
export function Keys() {
  const client = useQueryClient();
  const keys = useQuery(keysQuery);
  const remove = useMutation({
    mutationFn: (name: string) => told(api.DELETE("/api/v1/keys/{name}", { params: { path: { name } } })),
    onSettled: () => client.invalidateQueries({ queryKey: ["live"] }),
  });
  return (
    <>
      {remove.error && <Failure error={remove.error} />}
      <Shown query={keys}>
        {(list) =>
          list.length === 0 ? (
            <p className="quiet px-4 py-3">There is none yet.</p>
          ) : (
            <>
              {list.map((key) => (
                <div key={key.name} className="px-4 py-2">
                  <p className="flex flex-wrap items-baseline gap-x-4 gap-y-1">
                    <span className="font-semibold">{key.name}</span>
                    <span className="quiet text-sm">{key.has_secret ? "ours, with its secret part" : "somebody else's"}</span>
                    <span className={`flex-1 text-sm ${key.unfit ? "text-error" : "quiet"}`}>{key.unfit ? `✕ ${key.unfit}` : key.expires ? `good until ${day(key.expires)}` : "does not expire"}</span>
                    <a className="btn btn-xs" href={`/api/v1/keys/${key.name}`} download={`${key.name}.asc`} aria-label={`Export the key ${key.name}`}>
                      Export
                    </a>
                    <May as="manager">
                      <button type="button" className="btn btn-ghost btn-xs" aria-label={`Remove the key ${key.name}`} disabled={remove.isPending} onClick={() => remove.mutate(key.name)}>
                        Remove
                      </button>
                    </May>
                  </p>
                  <p className="quiet text-sm [overflow-wrap:anywhere]">{key.users.join(", ")}</p>
                  <p className="file quiet text-xs [overflow-wrap:anywhere]">{key.fingerprint}</p>
                </div>
              ))}
            </>
          )
        }
      </Shown>
      <Import />
    </>
  );
}
