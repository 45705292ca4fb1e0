import { useId, useState } from "react";
import { useFormContext, useWatch } from "react-hook-form";

import { Dialog } from "../ui/Dialog";
import { Fields } from "./Field";
import { Mistakes } from "./Labelled";
import type { Kind } from "./schema";
import { type Table, type Value, newStep, stepKind, tables } from "./values";
import { useWorld } from "./world";

/** What one wants, each with the steps that do it. */
const GROUPS = [
  ["protect", "Protect"],
  ["put", "Put somewhere"],
  ["change", "Change"],
  ["tell", "Tell somebody"],
  ["decide", "Decide"],
  ["data", "Look up"],
] as const;

/** Steps of a list, changed as one: what moves keeps all that was said of it. */
export function useSteps(name: string) {
  const { forms } = useWorld();
  const { setValue } = useFormContext();
  const steps = tables(useWatch({ name }) as Value | undefined);
  const set = (to: Table[]) => setValue(name, to, { shouldDirty: true });
  return {
    steps,
    add: (kind: Kind, at: number) => set(steps.toSpliced(at, 0, newStep(forms, kind))),
    remove: (at: number) => set(steps.toSpliced(at, 1)),
    copy: (at: number) => set(steps.toSpliced(at + 1, 0, structuredClone(steps[at] ?? {}))),
    move: (at: number, to: number) => {
      const [step] = steps.slice(at, at + 1);
      if (step && to >= 0 && to < steps.length) set(steps.toSpliced(at, 1).toSpliced(to, 0, step));
    },
  };
}

/** Which step to add, by what one wants. */
export function AddStep({ isOpen, onClose, onAdd }: { isOpen: boolean; onClose: () => void; onAdd: (kind: Kind) => void }) {
  const { forms } = useWorld();
  return (
    <Dialog title="Add a step" open={isOpen} onClose={onClose}>
      <div className="grid gap-4 sm:grid-cols-2">
        {GROUPS.map(([group, title]) => (
          <section key={group} aria-label={title}>
            <h3 className="pb-1 font-semibold">{title}</h3>
            <ul className="grid gap-1">
              {forms.steps
                .filter((kind) => kind.group === group)
                .map((kind) => (
                  <li key={kind.kind}>
                    <button type="button" className="hover:bg-base-200 w-full rounded p-1 text-left" onClick={() => onAdd(kind)}>
                      <span className="link link-hover font-semibold">{kind.label}</span>
                      <span className="quiet block text-sm">{kind.about}</span>
                    </button>
                  </li>
                ))}
            </ul>
          </section>
        ))}
      </div>
    </Dialog>
  );
}

/** All that can be said of a step: of its kind, and of every step. */
export function StepFields({ name, kind }: { name: string; kind: Kind }) {
  const { forms } = useWorld();
  const own = `${name}.${kind.kind}`;
  const said = useWatch({ name: forms.step.map(({ key }) => `${name}.${key}`) }) as (Value | undefined)[];
  return (
    <div className="grid gap-4">
      <p className="quiet">{kind.about}</p>
      <Mistakes name={name} />
      <Mistakes name={own} />
      <Fields fields={kind.fields} path={own} />
      <details open={said.some((value) => value !== null && value !== undefined) || undefined}>
        <summary className="cursor-pointer font-semibold">Only if, try again, when it fails</summary>
        <div className="grid gap-4 pt-3">
          <Fields fields={forms.step} path={name} />
        </div>
      </details>
    </div>
  );
}

/** Steps as a list: each folded until it is opened. */
export function StepList({ name }: { name: string }) {
  const { forms } = useWorld();
  const { steps, add, remove, copy, move } = useSteps(name);
  const [isAdding, setAdding] = useState(false);
  // What was just added is open: it is there to be filled in.
  const [fresh, setFresh] = useState<number>();
  const id = useId();
  return (
    <div className="grid gap-2">
      <Mistakes name={name} />
      {steps.length > 0 && (
        <ol className="panel">
          {steps.map((step, at) => {
            const kind = stepKind(forms, step);
            const title = `${at + 1} ${kind?.label ?? "not known"}`;
            return (
              // oxlint-disable-next-line react/no-array-index-key -- a step is its place in the list
              <li key={`${id} ${at} ${kind?.kind}`}>
                <details open={fresh === at || undefined}>
                  <summary className="cursor-pointer px-3 py-2 font-semibold">{title}</summary>
                  <div className="grid gap-3 px-3 pb-3">
                    <p className="flex flex-wrap gap-1">
                      <button type="button" className="btn btn-ghost btn-xs" disabled={at === 0} aria-label={`${title}: earlier`} onClick={() => move(at, at - 1)}>
                        ↑ Earlier
                      </button>
                      <button type="button" className="btn btn-ghost btn-xs" disabled={at === steps.length - 1} aria-label={`${title}: later`} onClick={() => move(at, at + 1)}>
                        ↓ Later
                      </button>
                      <button type="button" className="btn btn-ghost btn-xs" aria-label={`${title}: copy`} onClick={() => copy(at)}>
                        Copy
                      </button>
                      <button type="button" className="btn btn-ghost btn-xs" aria-label={`${title}: remove`} onClick={() => remove(at)}>
                        Remove
                      </button>
                    </p>
                    {kind && <StepFields name={`${name}.${at}`} kind={kind} />}
                  </div>
                </details>
              </li>
            );
          })}
        </ol>
      )}
      <p>
        <button type="button" className="btn btn-sm" onClick={() => setAdding(true)}>
          Add a step
        </button>
      </p>
      <AddStep
        isOpen={isAdding}
        onClose={() => setAdding(false)}
        onAdd={(kind) => {
          setFresh(steps.length);
          add(kind, steps.length);
          setAdding(false);
        }}
      />
    </div>
  );
}
