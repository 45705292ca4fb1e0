import { useState } from "react";
import { useWatch } from "react-hook-form";

import { Dialog } from "../ui/Dialog";
import { FolderList } from "../ui/FolderList";
import { ChipText } from "./ChipText";
import { NewFolder } from "./NewFolder";
import type { Aria } from "./Labelled";
import type { Value } from "./values";

interface Props {
  aria: Aria;
  label: string;
  path: string;
  name: string;
  /** Whether it may have placeholders. */
  isTemplate: boolean;
  value: string;
  onChange: (folder: string) => void;
}

/** A folder, typed or picked by going there: in the place that stands beside it. */
export function PickedFolder({ aria, label, path, name, isTemplate, value, onChange }: Props) {
  const [isOpen, setOpen] = useState(false);
  const [folder, setFolder] = useState("");
  const before = path === "" ? "" : `${path}.`;
  const said = useWatch({ name: [`${before}place`, `${before}to`, "starts.arrival.place"] }) as (Value | undefined)[];
  const place = said.find((one) => typeof one === "string");
  return (
    <div className="flex items-start gap-2">
      {isTemplate ? (
        <div className="min-w-0 flex-1">
          <ChipText aria={aria} label={label} name={name} lines={false} value={value} onChange={onChange} />
        </div>
      ) : (
        <input {...aria} className="input file min-w-0 flex-1" spellCheck={false} value={value} onChange={(event) => onChange(event.target.value)} />
      )}
      <button type="button" className="btn" disabled={place === undefined} aria-label={`Browse for ${label}`} onClick={() => setOpen(true)}>
        Browse…
      </button>
      {place !== undefined && (
        <Dialog title={`A folder of ${place}`} open={isOpen} onClose={() => setOpen(false)}>
          <FolderList place={place} folder={folder} onFolder={setFolder} />
          <NewFolder key={folder} place={place} folder={folder} onMade={setFolder} />
          <p className="flex gap-2 pt-3">
            <button
              type="button"
              className="btn btn-sm btn-primary"
              onClick={() => {
                onChange(folder);
                setOpen(false);
              }}
            >
              Take {folder ? `“${folder}”` : "the root"}
            </button>
            <button type="button" className="btn btn-ghost btn-sm" onClick={() => setOpen(false)}>
              Cancel
            </button>
          </p>
        </Dialog>
      )}
    </div>
  );
}
