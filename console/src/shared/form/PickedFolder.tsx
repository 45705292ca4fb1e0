import { useState } from "react";
import { useWatch } from "react-hook-form";

import { ChipText } from "./ChipText";
import { FolderDialog } from "./FolderDialog";
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
        <FolderDialog key={place} place={place} isOpen={isOpen} onClose={() => setOpen(false)} onTake={onChange} />
      )}
    </div>
  );
}
