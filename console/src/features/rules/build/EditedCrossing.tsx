import { memo, useDeferredValue, useState } from "react";
import { useFormContext } from "react-hook-form";

import type { Rule } from "../../../shared/api/client";
import { AddStep } from "../../../shared/form/StepList";
import { type Table, type Value, at, filled, isTable, newStep, pointer, stepKind, tables, texts } from "../../../shared/form/values";
import type { Forms } from "../../../shared/form/schema";
import type { Draft } from "../../../shared/form/useDraft";
import { useWhole, useWorld } from "../../../shared/form/world";
import { Crossing, type Lane, type Stone } from "../../../shared/ui/Crossing";
import { Dialog } from "../../../shared/ui/Dialog";
import { Due } from "../../../shared/ui/format";
import { type Part, sameKey } from "./parts";

interface Props {
  draft: Draft;
  /** The rule in force, whose files are counted. */
  rule: Rule | undefined;
  open: Part;
  onOpen: (part: Part) => void;
}

const first = (value: Value | undefined): string => texts(value)[0] ?? "";

function Opener({ children, name, part, open, onOpen }: { children: React.ReactNode; name: string; part: Part; open: Part; onOpen: (part: Part) => void }) {
  const isOpen = sameKey(part) === sameKey(open);
  return (
    <button type="button" aria-pressed={isOpen} className={`link-hover block cursor-pointer text-left ${isOpen ? "text-primary underline decoration-2 underline-offset-4" : ""}`} onClick={() => onOpen(part)}>
      {name && <span className="sr-only">{name}: </span>}
      {children}
    </button>
  );
}

/** What starts it, said in a few words on the near bank. */
function NearBank({ forms, value, next, ...opening }: { forms: Forms; value: Table; next: string | null | undefined; open: Part; onOpen: (part: Part) => void }) {
  const starts = forms.sections.rule?.find(({ key }) => key === "starts")?.shape;
  const kinds = starts?.is === "group" ? starts.fields.filter(({ key }) => isTable(at(value, `starts.${key}`))) : [];
  const finds = tables(value.finds);
  return (
    <div className="grid gap-1">
      <Opener name="What starts it" part={{ is: "starts" }} {...opening}>
        {kinds.length === 0 && <span className="text-error font-semibold">! Nothing starts it yet</span>}
        {kinds.map(({ key, label }) => {
          const place = first(at(value, `starts.${key}.place`));
          return (
            <span key={key} className="block">
              <span className="font-semibold">{place || label}</span>
              {place && <span className="file block text-sm">{first(at(value, `starts.${key}.folder`)) || "the root"}</span>}
              {place && <span className="quiet block text-sm">{texts(at(value, `starts.${key}.names`)).join(", ") || "every name"}</span>}
            </span>
          );
        })}
      </Opener>
      {next && (
        <span className="quiet text-sm">
          next <Due at={next} />
        </span>
      )}
      <Opener name="Which files it looks for" part={{ is: "finds" }} {...opening}>
        <span className="quiet text-sm">{finds.length === 0 ? "+ look for files" : `looks in ${finds.map((find) => first(find.place) || "…").join(", ")}`}</span>
      </Opener>
    </div>
  );
}

/** The picture of a rule, edited in place: banks open what starts it and where it goes, stones open their step. */
export function EditedCrossing({ draft, rule, open, onOpen }: Props) {
  const { forms, mistakes } = useWorld();
  // What is typed comes first; a picture of hundreds of stones follows when there is time.
  const value = useDeferredValue(useWhole());
  const drawn = useDeferredValue(draft);
  const wrong = useDeferredValue(mistakes);
  return <Picture forms={forms} mistakes={wrong} value={value} draft={drawn} rule={rule} open={open} onOpen={onOpen} />;
}

interface Drawn extends Props {
  forms: Forms;
  mistakes: Draft["mistakes"];
  value: Table;
}

const Picture = memo(function Picture({ forms, mistakes, value, draft, rule, open, onOpen }: Drawn) {
  const { setValue, getValues } = useFormContext();
  // A picture may be a moment old: what is changed is what the form has now.
  const now = (name: string): Table[] => tables(at(getValues() as unknown as Table, name));
  const branches = tables(value.branch);
  const [adding, setAdding] = useState<{ branch: number; at: number }>();
  const [removing, setRemoving] = useState<{ branch: number; step: number }>();
  const leaving = removing && stepKind(forms, tables(at(value, `branch.${removing.branch}.steps`))[removing.step] ?? {})?.label;
  const isAmiss = (name: string): boolean => mistakes.some((mistake) => mistake.pointer === pointer(name) || mistake.pointer.startsWith(`${pointer(name)}/`));
  const addBranch = () => {
    setValue("branch", [...now("branch"), filled(forms, forms.branch, { steps: [] })], { shouldDirty: true });
    onOpen({ is: "branch", branch: now("branch").length - 1 });
  };
  const move = (branch: number, step: number, by: -1 | 1) => {
    const name = `branch.${branch}.steps`;
    const steps = now(name);
    const [moved, to] = [steps[step], step + by];
    if (!moved || to < 0 || to >= steps.length) return;
    setValue(name, steps.toSpliced(step, 1).toSpliced(to, 0, moved), { shouldDirty: true });
    onOpen({ is: "step", branch, step: to });
    // The focus goes with it, once the picture is drawn anew.
    window.setTimeout(() => document.querySelector<HTMLElement>('[data-open="true"] [data-stone]')?.focus());
  };
  const remove = () => {
    if (!removing) return;
    const name = `branch.${removing.branch}.steps`;
    setValue(name, now(name).toSpliced(removing.step, 1), { shouldDirty: true });
    onOpen({ is: "branch", branch: removing.branch });
    setRemoving(undefined);
  };
  const lanes = branches.map((branch, number): Lane => {
    const steps = tables(branch.steps);
    const told = draft.branches[number];
    const drawn = [...(told?.steps ?? [])];
    const stones = steps.flatMap((step, order): Stone[] => {
      const kind = stepKind(forms, step);
      // What stands before it in the picture and not in the rule is done because the partner wants it so.
      const found = drawn.findIndex((one) => one.kind === kind?.kind);
      const [shown, ...wished] = drawn.splice(0, found + 1).toReversed();
      const part: Part = { is: "step", branch: number, step: order };
      const amiss = isAmiss(`branch.${number}.steps.${order}`);
      const detail = [shown?.rest, shown?.condition && `if ${shown.condition}`].filter(Boolean).join("; ");
      return [
        ...wished.toReversed().map((one): Stone => ({ key: `${order} ${one.kind}`, label: one.kind, detail: "as the partner wants it", state: "waiting" })),
        {
          key: `${order}`,
          label: kind?.label ?? "not known",
          state: amiss ? "failed" : "rest",
          detail: amiss ? "to be finished" : detail,
          onOpen: () => onOpen(part),
          isOpen: sameKey(part) === sameKey(open),
          name: `Branch ${number + 1}, step ${order + 1}`,
          onMove: (by) => move(number, order, by),
          onRemove: () => setRemoving({ branch: number, step: order }),
        },
      ];
    });
    const original: Part = { is: "original", branch: number };
    stones.push({
      key: "original",
      label: "The original",
      detail: told?.original ?? "stays",
      state: isAmiss(`branch.${number}.original`) ? "failed" : "rest",
      onOpen: () => onOpen(original),
      name: `Branch ${number + 1}`,
      isOpen: sameKey(original) === sameKey(open),
    });
    const target = told?.steps.findLast((step) => step.place);
    const counted = rule?.branches[number];
    const opening = { open, onOpen };
    return {
      key: `${number}`,
      title: (
        <Opener name="Branch" part={{ is: "branch", branch: number }} {...opening}>
          <span className="font-semibold">
            {number + 1} {first(branch.title) || told?.title || "Branch"}
          </span>{" "}
          <span className="quiet text-[12.5px]">{told?.condition ?? (isTable(branch.if) ? "" : branches.length > 1 ? "anything else" : "every file")}</span>
          {isAmiss(`branch.${number}.if`) && <span className="text-error text-[12.5px]"> ! its condition is to be finished</span>}
        </Opener>
      ),
      near: number === 0 && <NearBank forms={forms} value={value} next={rule?.next} {...opening} />,
      far: (
        <>
          <span className="block font-semibold">{steps.some((step) => isTable(step.hold)) ? "a person" : (target?.place ?? (steps.length > 0 ? "" : "nowhere yet"))}</span>
          {target?.folder && <span className="file block text-xs">{target.folder}</span>}
          {counted && counted.done > 0 && <span className="quiet block text-sm">{counted.done} today</span>}
        </>
      ),
      stones,
      onAdd: (order) => setAdding({ branch: number, at: order }),
    };
  });
  return (
    <>
      <Crossing
        label="What the rule does; open a part to change it"
        canList
        lanes={lanes}
        more={
          <button type="button" className="link" onClick={addBranch}>
            + branch
          </button>
        }
      />
      <Dialog title={`Take step ${(removing?.step ?? 0) + 1}${leaving ? `, ${leaving},` : ""} out of branch ${(removing?.branch ?? 0) + 1}?`} open={removing !== undefined} onClose={() => setRemoving(undefined)}>
        <p className="flex gap-2">
          <button type="button" className="btn btn-primary" onClick={remove}>
            Take it out
          </button>
          <button type="button" className="btn" onClick={() => setRemoving(undefined)}>
            Keep it
          </button>
        </p>
      </Dialog>
      <AddStep
        isOpen={adding !== undefined}
        onClose={() => setAdding(undefined)}
        onAdd={(kind) => {
          if (!adding) return;
          const name = `branch.${adding.branch}.steps`;
          setValue(name, now(name).toSpliced(adding.at, 0, newStep(forms, kind)), { shouldDirty: true });
          setAdding(undefined);
          onOpen({ is: "step", branch: adding.branch, step: adding.at });
        }}
      />
    </>
  );
});
