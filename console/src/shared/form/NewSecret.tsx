import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useId, useState } from "react";

import { api, told } from "../api/client";
import { Dialog } from "../ui/Dialog";
import { Hidden } from "./Hidden";

interface Props {
  label: string;
  /** Whether its value has several lines, as a private key has. */
  lines: boolean;
  /** The name that stands in the form. */
  name: string;
  /** Whether it is set already. */
  isSet: boolean;
  onSet: (name: string) => void;
}

/** Sets a secret where it is needed; its value goes into the vault and never comes out again. */
export function NewSecret({ label, lines, name: known, isSet, onSet }: Props) {
  const client = useQueryClient();
  const id = useId();
  const [isOpen, setOpen] = useState(false);
  const [name, setName] = useState("");
  const [value, setValue] = useState("");
  const put = useMutation({
    mutationFn: () => told(api.PUT("/api/v1/secrets/{name}", { params: { path: { name } }, body: { value } })),
    onSuccess: async () => {
      setValue("");
      setOpen(false);
      onSet(name);
      await client.invalidateQueries({ queryKey: ["live"] });
    },
  });
  const open = () => {
    setName(known);
    setOpen(true);
  };
  return (
    <>
      <p className="text-sm">
        {known !== "" && !isSet && <span className="text-error">! It is not set yet. </span>}
        <button type="button" className="link" aria-label={`Set a secret for ${label}`} onClick={open}>
          {known === "" ? "Set a new one…" : "Set its value…"}
        </button>
      </p>
      <Dialog title={`A secret for ${label}`} open={isOpen} onClose={() => setOpen(false)}>
        <form
          className="grid gap-3"
          onSubmit={(event) => {
            event.preventDefault();
            // What stands around it is a form too.
            event.stopPropagation();
            put.mutate();
          }}
        >
          <label className="grid gap-1" htmlFor={`${id}-name`}>
            <span className="font-semibold">Name of the secret</span>
            <input id={`${id}-name`} className="input file w-full" required pattern="[a-z0-9][a-z0-9_\-]{0,63}" value={name} onChange={(event) => setName(event.target.value)} />
          </label>
          <label className="grid gap-1" htmlFor={`${id}-value`}>
            <span className="font-semibold">Value of the secret</span>
            <Hidden aria={{ id: `${id}-value`, required: true, "aria-describedby": "", "aria-invalid": false }} lines={lines} value={value} onChange={setValue} />
          </label>
          <p className="quiet text-sm">It goes into the vault of the service and is never shown again. One of this name that is set already is replaced.</p>
          {put.error && (
            <p role="alert" className="text-error">
              {put.error.message}
            </p>
          )}
          <p className="flex gap-2">
            <button type="submit" className="btn btn-primary btn-sm" disabled={put.isPending}>
              Set it
            </button>
            <button type="button" className="btn btn-sm" onClick={() => setOpen(false)}>
              Cancel
            </button>
          </p>
        </form>
      </Dialog>
    </>
  );
}
