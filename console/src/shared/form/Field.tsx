import type { ReactNode } from "react";
import { useController, useFormContext, useWatch } from "react-hook-form";

import { ChipText } from "./ChipText";
import { Condition } from "./Condition";
import { Days } from "./Days";
import { Labelled, Mistakes } from "./Labelled";
import { PickedFolder } from "./PickedFolder";
import { StepList } from "./StepList";
import { SeveralChips } from "./SeveralChips";
import { Chosen, Flag, Whole, Pairs, Picked, Secret, Several, Texts, Ticks, Variants } from "./inputs";
import type { Choice, Field } from "./schema";
import { type Table, type Value, filled, isTable, tables, texts } from "./values";
import { isNamed, useBranches, useNames } from "./names";
import { useBefore, useMistakes, useWorld } from "./world";

interface Props {
  field: Field;
  /** The table that it is a key of. */
  path: string;
}

const join = (path: string, key: string | number): string => (path === "" ? String(key) : `${path}.${key}`);

/** The keys of a table: what is often said first, the rest behind "More". */
export function Fields({ fields, path }: { fields: Field[]; path: string }) {
  const values = useWatch({ name: fields.map(({ key }) => join(path, key)) }) as (Value | undefined)[];
  const [usual, seldom] = [fields.filter((field) => !field.seldom), fields.filter((field) => field.seldom)];
  const isSaid = fields.some(({ seldom: rare }, at) => rare && values[at] !== null && values[at] !== undefined);
  return (
    <div className="grid gap-4">
      {usual.map((field) => (
        <KeyField key={field.key} field={field} path={path} />
      ))}
      {seldom.length > 0 && (
        <details open={isSaid || undefined}>
          <summary className="cursor-pointer font-semibold">More</summary>
          <div className="grid gap-4 pt-3">
            {seldom.map((field) => (
              <KeyField key={field.key} field={field} path={path} />
            ))}
          </div>
        </details>
      )}
    </div>
  );
}

/** The field of a key. */
export function KeyField({ field, path }: Props) {
  const { shape } = field;
  const name = join(path, field.key);
  switch (shape.is) {
    case "group":
      return shape.fields.length === 0 ? <Said field={field} name={name} /> : <Group field={field} name={name} fields={shape.fields} />;
    case "groups":
      return <Groups field={field} name={name} fields={shape.fields} />;
    case "steps":
      return (
        <Part field={field}>
          <StepList name={name} />
        </Part>
      );
    case "branches":
      return null;
    default:
      return <Leaf field={field} path={path} name={name} />;
  }
}

/** A part of a form with a heading of its own. */
function Part({ field, children, action }: { field: Field; children?: ReactNode; action?: ReactNode }) {
  return (
    <fieldset className="border-base-300 grid min-w-0 gap-3 border-l-2 pl-4">
      <legend className="float-left font-semibold">{field.label}</legend>
      <p className="quiet clear-left -mt-2 text-sm">{field.help}</p>
      {children}
      {action && <p>{action}</p>}
    </fieldset>
  );
}

/** Something that is said by being there. */
function Said({ field, name }: { field: Field; name: string }) {
  const { field: input } = useController({ name });
  return <Flag label={field.label} help={field.help} isOn={isTable(input.value as Value)} onChange={(on) => input.onChange(on ? {} : null)} />;
}

function Group({ field, name, fields }: { field: Field; name: string; fields: Field[] }) {
  const { forms } = useWorld();
  const { setValue } = useFormContext();
  const value = useWatch({ name }) as Value | undefined;
  const set = (to: Table | null) => setValue(name, to, { shouldDirty: true });
  if (!isTable(value)) {
    return (
      <Part
        field={field}
        action={
          <button type="button" className="btn btn-sm" aria-label={`Add: ${field.label}`} onClick={() => set(filled(forms, fields, {}))}>
            Add
          </button>
        }
      />
    );
  }
  const away = (
    <button type="button" className="btn btn-ghost btn-sm" aria-label={`Leave it out: ${field.label}`} onClick={() => set(null)}>
      Leave it out
    </button>
  );
  return (
    <Part field={field} action={!field.needed && away}>
      <Mistakes name={name} />
      <Fields fields={fields} path={name} />
    </Part>
  );
}

function Groups({ field, name, fields }: { field: Field; name: string; fields: Field[] }) {
  const { forms } = useWorld();
  const { setValue } = useFormContext();
  const list = tables(useWatch({ name }) as Value | undefined);
  const set = (to: Table[]) => setValue(name, to.length > 0 ? to : null, { shouldDirty: true });
  const without = (at: number) => list.filter((_, other) => other !== at);
  return (
    <Part
      field={field}
      action={
        <button type="button" className="btn btn-sm" aria-label={`Add to ${field.label}`} onClick={() => set([...list, filled(forms, fields, {})])}>
          Add
        </button>
      }
    >
      <Mistakes name={name} />
      {list.length > 0 && (
        <ol className="grid gap-3">
          {list.map((_, at) => (
            // oxlint-disable-next-line react/no-array-index-key -- a field is its place in the list
            <li key={`${at} of ${list.length}`} className="panel">
              <fieldset aria-label={`${field.label} ${at + 1}`} className="grid min-w-0 gap-3 p-3">
                <Mistakes name={join(name, at)} />
                <Fields fields={fields} path={join(name, at)} />
                <p>
                  <button type="button" className="btn btn-ghost btn-xs" aria-label={`Remove ${field.label} ${at + 1}`} onClick={() => set(without(at))}>
                    Remove
                  </button>
                </p>
              </fieldset>
            </li>
          ))}
        </ol>
      )}
    </Part>
  );
}

/** What was said before, in a few words. */
function shownBefore(value: Value): string {
  if (value === null) return "nothing";
  const text = typeof value === "object" ? JSON.stringify(value) : String(value);
  return text.length > 60 ? `${text.slice(0, 60)}…` : text;
}

const said = (value: Value | undefined): string => (typeof value === "string" || typeof value === "number" || typeof value === "boolean" ? String(value) : "");

function usualOf(field: Field): string {
  const { usual } = field;
  if (usual === undefined || usual === "" || typeof usual === "object") return "";
  return ` If left empty: ${String(usual as string | number)}`;
}

const WEEKDAYS: Choice[] = [
  ["mon", "Monday"],
  ["tue", "Tuesday"],
  ["wed", "Wednesday"],
  ["thu", "Thursday"],
  ["fri", "Friday"],
  ["sat", "Saturday"],
  ["sun", "Sunday"],
].map(([value = "", label = ""]) => ({ value, label, about: "" }));

/** A key with one value. */
function Leaf({ field, path, name }: Props & { name: string }) {
  const { shape, label, help, needed } = field;
  const { field: input } = useController({ name });
  const value = (input.value ?? null) as Value;
  const mistakes = useMistakes(name, true);
  const before = useBefore(name, value);
  const set = (to: Value) => input.onChange(to === "" ? null : to);
  const shown = { label, needed, mistakes, changed: before && { was: shownBefore(before.was), onBack: () => input.onChange(before.was) } };
  const holds = "holds" in shape ? shape.holds : "";
  const [listed, branches] = [useNames(holds), useBranches()];
  const names = holds === "branch" ? branches : listed;
  switch (shape.is) {
    case "flag":
      return <Flag label={label} help={help} isOn={(value ?? field.usual ?? false) === true} onChange={(on) => set(on === (field.usual ?? false) ? null : on)} />;
    case "number":
      return (
        <Labelled {...shown} help={`${help}${usualOf(field)}`}>
          {(aria) => <Whole aria={aria} value={value} onChange={set} />}
        </Labelled>
      );
    case "choice": {
      const chosen = shape.choices.find((choice) => choice.value === (said(value) || field.usual));
      return (
        <Labelled {...shown} help={chosen?.about ?? help}>
          {(aria) => <Chosen aria={aria} choices={shape.choices} usual={said(field.usual as Value)} value={said(value)} onChange={set} />}
        </Labelled>
      );
    }
    case "choices":
      return <Ticks {...shown} help={help} choices={shape.choices} ticked={texts(value === null ? (field.usual as Value) : value)} onTick={(to) => input.onChange(to)} />;
    case "texts": {
      const one = (list: string[]) => (shape.one && list.length === 1 ? (list[0] ?? null) : list.length > 0 ? list : null);
      if (holds === "weekday") return <Ticks {...shown} help={help} choices={WEEKDAYS} ticked={texts(value ?? (field.usual as Value))} onTick={(to) => input.onChange(to)} />;
      if (isNamed(holds)) return <Ticks {...shown} help={help} choices={names} ticked={texts(value)} onTick={(to) => input.onChange(one(to))} />;
      if (holds.endsWith("template")) {
        return (
          <Labelled {...shown} help={help}>
            {(aria) => <SeveralChips aria={aria} label={label} name={name} texts={texts(value)} onChange={(to) => input.onChange(to.length === 1 && to[0] === "" ? null : one(to))} />}
          </Labelled>
        );
      }
      return (
        <Labelled {...shown} help={`${help} One a line.`}>
          {(aria) => (
            <>
              {holds === "day" && <Days label={label} days={texts(value)} onChange={(to) => input.onChange(one(to))} />}
              <Several aria={aria} texts={texts(value)} onChange={(to) => input.onChange(one(to))} />
            </>
          )}
        </Labelled>
      );
    }
    case "pairs":
      return <Pairs {...shown} help={help} name={name} isTemplate={shape.holds.endsWith("template")} value={isTable(value) ? value : {}} onChange={(to) => input.onChange(to)} />;
    case "secret":
      return <Secret {...shown} lines={shape.lines} help={help} value={isTable(value) ? value : null} onChange={(to) => input.onChange(to)} />;
    case "condition":
      return <Condition label={label} help={help} value={value} onChange={(to) => input.onChange(to)} name={name} />;
    case "variant":
      return <Variants {...shown} help={help} name={name} variants={shape.variants} usual={said(field.usual as Value)} value={value} onChange={(to) => input.onChange(to)} />;
    default:
      return (
        <Labelled {...shown} help={`${help}${usualOf(field)}`}>
          {(aria) =>
            isNamed(holds) ? (
              <Picked aria={aria} choices={names} value={said(value)} onChange={set} />
            ) : holds === "folder" || holds === "folder-template" ? (
              <PickedFolder aria={aria} label={label} path={path} name={name} isTemplate={holds !== "folder"} value={said(value)} onChange={set} />
            ) : holds.endsWith("template") ? (
              <ChipText aria={aria} label={label} name={name} lines={holds === "text-template"} value={said(value)} onChange={set} />
            ) : (
              <Texts aria={aria} holds={holds} value={said(value)} onChange={set} />
            )
          }
        </Labelled>
      );
  }
}
