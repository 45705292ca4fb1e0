import { Told } from "./Labelled";
import { Chosen, Several } from "./inputs";
import type { Field } from "./schema";
import { type Table, type Value, isTable, tables, texts } from "./values";
import { useMistakes, useWorld } from "./world";

const GROUPS = ["all", "any", "none"];
const SUBJECTS = ["file", "run", "chain", "signal", "mail"];
/** Words that people know of the run and of the other rule; a signal's fields are its sender's. */
const KNOWN: Record<string, string[]> = { run: ["cause", "event"], chain: ["rule", "event", "from", "partner"], mail: ["from", "to", "subject", "date"] };

const keyOf = (table: Table, keys: string[]): string | undefined => keys.find((key) => table[key] !== undefined && table[key] !== null);

interface Props {
  label: string;
  value: Value;
  onChange: (value: Value) => void;
}

/** What must hold: one test, or several under "all", "any" or "none", which may be nested. */
export function Condition({ help, name, ...props }: Props & { help: string; name: string }) {
  const { label, value, onChange } = props;
  const mistakes = useMistakes(name, true);
  return (
    <fieldset className="grid min-w-0 gap-2">
      <legend className="pb-1 font-semibold">{label}</legend>
      {isTable(value) ? <Node {...props} value={value} onRemove={() => onChange(null)} /> : <Add label={label} onAdd={onChange} />}
      <div className="grid gap-1 text-sm">
        <Told mistakes={mistakes} />
        <p className="quiet">{help}</p>
      </div>
    </fieldset>
  );
}

function Add({ label, onAdd }: { label: string; onAdd: (value: Table) => void }) {
  return (
    <p className="flex flex-wrap gap-2">
      <button type="button" className="btn btn-sm" aria-label={`Add a test to ${label}`} onClick={() => onAdd({ file: "name", is: "" })}>
        Add a test
      </button>
      <button type="button" className="btn btn-ghost btn-sm" aria-label={`Add several tests to ${label}`} onClick={() => onAdd({ all: [{ file: "name", is: "" }] })}>
        Add several
      </button>
    </p>
  );
}

function Node({ label, value, onChange, onRemove }: Omit<Props, "value"> & { value: Table; onRemove: () => void }) {
  const group = keyOf(value, GROUPS);
  if (group === undefined) return <Test label={label} value={value} onChange={onChange} onRemove={onRemove} />;
  const inner = tables(value[group]);
  const put = (to: Table[]) => onChange({ [group]: to });
  return (
    <fieldset aria-label={label} className="border-base-300 grid min-w-0 gap-2 border-l-2 pl-3">
      <p className="flex items-center gap-2">
        <select aria-label={`${label}: how many hold`} className="select select-sm w-40" value={group} onChange={(event) => onChange({ [event.target.value]: inner })}>
          <option value="all">all of</option>
          <option value="any">any of</option>
          <option value="none">none of</option>
        </select>
        <button type="button" className="btn btn-ghost btn-xs" aria-label={`Remove ${label}`} onClick={onRemove}>
          Remove
        </button>
      </p>
      {inner.map((one, at) => {
        const rest = inner.filter((_, other) => other !== at);
        const change = (to: Value) => put(inner.map((before, other) => (other === at && isTable(to) ? to : before)));
        // oxlint-disable-next-line react/no-array-index-key -- a test is its place in the list
        return <Node key={at} label={`${label} ${at + 1}`} value={one} onChange={change} onRemove={() => put(rest)} />;
      })}
      <Add label={label} onAdd={(one) => put([...inner, one])} />
    </fieldset>
  );
}

function Test({ label, value, onChange, onRemove }: Omit<Props, "value"> & { value: Table; onRemove: () => void }) {
  const { condition } = useWorld().forms;
  const field = (key: string): Field | undefined => condition.find((one) => one.key === key);
  const subject = keyOf(value, SUBJECTS) ?? "file";
  const word = texts(value[subject])[0] ?? "";
  const comparisons = condition.filter(({ key }) => ![...GROUPS, ...SUBJECTS, "case"].includes(key));
  const said = comparisons.filter(({ key }) => value[key] !== undefined && value[key] !== null);
  const operator = said[0]?.key ?? "is";
  const file = field("file")?.shape;
  const words = subject === "file" && file?.is === "choice" ? file.choices.map((choice) => choice.value) : (KNOWN[subject] ?? []);
  // The subject first, as the book has it.
  const put = (change: Table) => {
    const { [subject]: what = "", ...rest } = value;
    onChange({ [subject]: what, ...rest, ...change });
  };
  const setSubject = (to: string) => {
    const { [subject]: _, ...rest } = value;
    onChange({ [to]: to === "file" ? "name" : (KNOWN[to]?.[0] ?? ""), ...rest });
  };
  const setOperator = (from: string, to: string) => put({ [from]: null, [to]: value[from] ?? "" });
  const capitals = field("case");
  const aria = (id: string) => ({ id: `${label} ${id}`, required: true, "aria-describedby": "", "aria-invalid": false, "aria-label": `${label}: ${id}` });
  return (
    <fieldset aria-label={label} className="grid min-w-0 gap-2">
      <div className="flex flex-wrap items-start gap-2">
        <select aria-label={`${label}: of what`} className="select select-sm w-36" value={subject} onChange={(event) => setSubject(event.target.value)}>
          {SUBJECTS.map((key) => (
            <option key={key} value={key}>
              {field(key)?.label}
            </option>
          ))}
        </select>
        {words.length > 0 ? (
          <select aria-label={`${label}: what`} className="select select-sm w-32" value={word} onChange={(event) => put({ [subject]: event.target.value })}>
            {[...new Set([...words, word])].map((one) => (
              <option key={one} value={one}>
                {one}
              </option>
            ))}
          </select>
        ) : (
          <input aria-label={`${label}: what`} className="input input-sm file w-36" value={word} onChange={(event) => put({ [subject]: event.target.value })} />
        )}
        {(said.length > 0 ? said.map(({ key }) => key) : [operator]).map((key) => (
          <span key={key} className="flex min-w-0 flex-1 flex-wrap items-start gap-2">
            <select aria-label={`${label}: how`} className="select select-sm w-32" value={key} onChange={(event) => setOperator(key, event.target.value)}>
              {comparisons.map((one) => (
                <option key={one.key} value={one.key} disabled={one.key !== key && said.includes(one)}>
                  {one.label}
                </option>
              ))}
            </select>
            {Array.isArray(value[key]) ? (
              <Several aria={aria("values")} texts={texts(value[key])} onChange={(to) => put({ [key]: to })} />
            ) : (
              <input
                aria-label={`${label}: with what`}
                className="input input-sm file min-w-32 flex-1"
                title={field(key)?.help}
                value={texts(value[key])[0] ?? ""}
                onChange={(event) => put({ [key]: event.target.value })}
              />
            )}
          </span>
        ))}
        <button type="button" className="btn btn-ghost btn-sm" aria-label={`Remove ${label}`} onClick={onRemove}>
          Remove
        </button>
      </div>
      <div className="flex flex-wrap items-center gap-3 text-sm">
        {["is", "is-not"].includes(operator) && (
          <label className="flex items-center gap-1">
            <input
              type="checkbox"
              className="checkbox checkbox-xs rounded-sm"
              checked={Array.isArray(value[operator])}
              onChange={(event) => put({ [operator]: event.target.checked ? texts(value[operator]).filter(Boolean) : (texts(value[operator])[0] ?? "") })}
            />
            one of several
          </label>
        )}
        {capitals?.shape.is === "choice" && (
          <label className="flex items-center gap-1">
            {capitals.label}
            <Chosen
              aria={{ ...aria("capitals"), required: false }}
              choices={capitals.shape.choices}
              usual={texts(capitals.usual as Value)[0] ?? ""}
              value={texts(value.case)[0] ?? ""}
              onChange={(to) => put({ case: to })}
            />
          </label>
        )}
        {said.length === 1 && (
          <button type="button" className="btn btn-ghost btn-xs" onClick={() => put({ [comparisons.find((one) => !said.includes(one) && one.key !== "is-not")?.key ?? "is-not"]: "" })}>
            Compare it twice
          </button>
        )}
      </div>
    </fieldset>
  );
}
