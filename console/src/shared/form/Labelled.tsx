import { type ReactNode, useId } from "react";

import type { Schemas } from "../api/client";
import { useMistakes } from "./world";

/** What ties an input to its label, its help and what is wrong with it. */
export interface Aria {
  id: string;
  required: boolean;
  "aria-describedby": string;
  "aria-invalid": boolean;
}

/** That something is otherwise than in force. */
export interface Changed {
  was: string;
  onBack: () => void;
}

interface Props {
  label: string;
  help: string;
  needed: boolean;
  mistakes: Schemas["DraftMistake"][];
  /** What is in force instead, and how that is taken back. */
  changed?: Changed | undefined;
  children: (aria: Aria) => ReactNode;
}

/** An input with its label; below it what is wrong with it, or what helps. */
export function Labelled({ label, help, needed, mistakes, changed, children }: Props) {
  const id = useId();
  return (
    <div className="labelled">
      <label htmlFor={id} className="labelled-label font-semibold">
        {label}
        {needed && (
          <span className="quiet text-sm font-normal" aria-hidden>
            {" "}
            needed
          </span>
        )}
      </label>
      <div className="grid min-w-0 gap-1">
        {children({ id, required: needed, "aria-describedby": `${id}-help`, "aria-invalid": mistakes.length > 0 })}
        {changed && (
          <p className="text-changed text-sm [overflow-wrap:anywhere]">
            changed; in force: <span className="file">{changed.was}</span>{" "}
            <button type="button" className="link" aria-label={`Take back the change of ${label}`} onClick={changed.onBack}>
              take it back
            </button>
          </p>
        )}
        <div id={`${id}-help`} className="grid gap-1 text-sm [overflow-wrap:anywhere]">
          <Told mistakes={mistakes} />
          {help && <p className="quiet">{help}</p>}
        </div>
      </div>
    </div>
  );
}

/** Mistakes, each with its sign. */
export function Told({ mistakes }: { mistakes: Schemas["DraftMistake"][] }) {
  return mistakes.map((mistake) => (
    <p key={`${mistake.pointer} ${mistake.message}`} className="text-error">
      <span aria-hidden>! </span>
      {mistake.message}
    </p>
  ));
}

/** What is wrong with a key that has no input of its own. */
export function Mistakes({ name }: { name: string }) {
  return (
    <div className="text-sm empty:hidden">
      <Told mistakes={useMistakes(name)} />
    </div>
  );
}
