import type { ReactNode } from "react";
import { useFormContext, useWatch } from "react-hook-form";

import { Fields, KeyField } from "../../../shared/form/Field";
import { Mistakes } from "../../../shared/form/Labelled";
import { StepFields, useSteps } from "../../../shared/form/StepList";
import type { Field } from "../../../shared/form/schema";
import { type Table, type Value, at, stepKind, tables } from "../../../shared/form/values";
import { useWhole, useWorld } from "../../../shared/form/world";
import type { Part } from "./parts";

interface Props {
  part: Part;
  onOpen: (part: Part) => void;
  /** The name of a new rule is a field like any other. */
  name: ReactNode;
}

function Panel({ title, actions, children }: { title: string; actions?: ReactNode; children: ReactNode }) {
  return (
    <section aria-label={title} className="panel min-w-0">
      <div className="fields grid gap-4 px-5 py-4">
        <div className="flex flex-wrap items-center justify-between gap-2">
          <h2 className="text-lg font-semibold">{title}</h2>
          <p className="flex flex-wrap gap-1">{actions}</p>
        </div>
        {children}
      </div>
    </section>
  );
}

function Action({ children, onDo, isOff = false }: { children: ReactNode; onDo: () => void; isOff?: boolean }) {
  return (
    <button type="button" className="btn btn-ghost btn-sm" disabled={isOff} onClick={onDo}>
      {children}
    </button>
  );
}

function OpenStep({ branch, step, onOpen }: { branch: number; step: number; onOpen: (part: Part) => void }) {
  const { forms } = useWorld();
  const { steps, move, copy, remove } = useSteps(`branch.${branch}.steps`);
  const kind = stepKind(forms, steps[step] ?? {});
  if (!kind) return null;
  const go = (to: number) => onOpen({ is: "step", branch, step: to });
  const moved = (to: number) => {
    move(step, to);
    go(to);
  };
  return (
    <Panel
      title={`Branch ${branch + 1} › step ${step + 1} of ${steps.length} › ${kind.label}`}
      actions={
        <>
          <Action isOff={step === 0} onDo={() => moved(step - 1)}>
            ← Earlier
          </Action>
          <Action isOff={step === steps.length - 1} onDo={() => moved(step + 1)}>
            Later →
          </Action>
          <Action
            onDo={() => {
              copy(step);
              go(step + 1);
            }}
          >
            Copy
          </Action>
          <Action
            onDo={() => {
              remove(step);
              onOpen({ is: "branch", branch });
            }}
          >
            Remove
          </Action>
        </>
      }
    >
      <StepFields key={`${branch} ${step} ${kind.kind} ${steps.length}`} name={`branch.${branch}.steps.${step}`} kind={kind} />
    </Panel>
  );
}

function OpenBranch({ branch, onOpen }: { branch: number; onOpen: (part: Part) => void }) {
  const { forms } = useWorld();
  const { setValue } = useFormContext();
  const branches = tables(useWatch({ name: "branch" }) as Value | undefined);
  const set = (to: Table[], open: number) => {
    setValue("branch", to, { shouldDirty: true });
    onOpen(to.length > 0 ? { is: "branch", branch: Math.max(0, open) } : { is: "rule" });
  };
  const moved = (to: number) => set(branches.toSpliced(branch, 1).toSpliced(to, 0, branches[branch] ?? {}), to);
  const shown = forms.branch.filter(({ key }) => key === "title" || key === "if");
  return (
    <Panel
      title={`Branch ${branch + 1} of ${branches.length}`}
      actions={
        <>
          <Action isOff={branch === 0} onDo={() => moved(branch - 1)}>
            ↑ Earlier
          </Action>
          <Action isOff={branch === branches.length - 1} onDo={() => moved(branch + 1)}>
            ↓ Later
          </Action>
          <Action onDo={() => set(branches.toSpliced(branch + 1, 0, structuredClone(branches[branch] ?? {})), branch + 1)}>Copy</Action>
          <Action onDo={() => set(branches.toSpliced(branch, 1), branch - 1)}>Remove</Action>
        </>
      }
    >
      <Mistakes name={`branch.${branch}`} />
      <Mistakes name={`branch.${branch}.steps`} />
      <Fields key={`${branch} of ${branches.length}`} fields={shown} path={`branch.${branch}`} />
    </Panel>
  );
}

/** The fields of what is open of a rule. */
export function OpenPart({ part, onOpen, name }: Props) {
  const { forms } = useWorld();
  const value = useWhole();
  const rule = forms.sections.rule ?? [];
  const field = (key: string): Field | undefined => rule.find((one) => one.key === key);
  switch (part.is) {
    case "step":
      return at(value, `branch.${part.branch}.steps.${part.step}`) === undefined ? null : <OpenStep branch={part.branch} step={part.step} onOpen={onOpen} />;
    case "branch":
      return <OpenBranch branch={part.branch} onOpen={onOpen} />;
    case "original": {
      const original = forms.branch.find(({ key }) => key === "original");
      return (
        <Panel title={`Branch ${part.branch + 1} › the original`}>
          {original && <KeyField key={part.branch} field={original} path={`branch.${part.branch}`} />}
        </Panel>
      );
    }
    case "starts": {
      const starts = field("starts")?.shape;
      return (
        <Panel title="What starts it">
          <Mistakes name="starts" />
          {starts?.is === "group" && <Fields fields={starts.fields} path="starts" />}
        </Panel>
      );
    }
    case "finds": {
      const finds = field("finds");
      return <Panel title="Which files it looks for">{finds && <KeyField field={finds} path="" />}</Panel>;
    }
    default:
      return (
        <Panel title="The rule itself">
          {name}
          <Mistakes name="" />
          <Fields fields={rule.filter(({ key }) => !["starts", "finds", "branch"].includes(key))} path="" />
        </Panel>
      );
  }
}
