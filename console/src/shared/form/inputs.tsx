import { useId, useState } from "react";

import type { Schemas } from "../api/client";
import { ChipText } from "./ChipText";
import { type Aria, type Changed, Labelled, Told } from "./Labelled";
import { NewSecret } from "./NewSecret";
import type { Choice, Variant } from "./schema";
import { type Table, type Value, isTable, texts } from "./values";
import { useNames } from "./names";

interface Input<T> {
  aria: Aria;
  value: T;
  onChange: (value: Value) => void;
}

const EXAMPLES: Record<string, string> = {
  duration: "15 min",
  size: "200 MB",
  speed: "4 MB/s",
  "time-of-day": "07:30",
  day: "2026-12-24",
  zone: "Europe/Oslo",
  "mail-address": "desk@merrow.example",
  host: "sftp.skerrow.example",
  url: "https://skerrow.example",
};

/** A text, in one line or several. */
export function Texts({ aria, holds, value, onChange }: Input<string> & { holds: string }) {
  const zones = useId();
  if (holds === "lines") {
    return <textarea {...aria} className="textarea min-h-0 w-full" rows={Math.min(8, value.split("\n").length + 1)} value={value} onChange={(event) => onChange(event.target.value)} />;
  }
  return (
    <>
      <input
        {...aria}
        className="input file w-full"
        spellCheck={false}
        autoComplete="off"
        list={holds === "zone" ? zones : undefined}
        placeholder={EXAMPLES[holds] && `as in ${EXAMPLES[holds]}`}
        value={value}
        onChange={(event) => onChange(event.target.value)}
      />
      {holds === "zone" && (
        <datalist id={zones}>
          {Intl.supportedValuesOf("timeZone").map((zone) => (
            <option key={zone} value={zone}>
              {zone}
            </option>
          ))}
        </datalist>
      )}
    </>
  );
}

export function Whole({ aria, value, onChange }: Input<Value>) {
  const shown = typeof value === "number" || typeof value === "string" ? String(value) : "";
  // What is no number stays as it was typed: the service says what is wrong with it.
  const read = (text: string): Value => (text === "" ? null : /^\d{1,15}$/.test(text) ? Number(text) : text);
  return <input {...aria} className="input w-40" inputMode="numeric" value={shown} onChange={(event) => onChange(read(event.target.value.trim()))} />;
}

export function Flag({ label, help, isOn, onChange }: { label: string; help: string; isOn: boolean; onChange: (on: boolean) => void }) {
  const id = useId();
  return (
    <div className="beside-labels grid gap-1">
      <label className="flex items-start gap-2">
        <input type="checkbox" className="checkbox checkbox-sm mt-0.5 rounded-sm" aria-describedby={id} checked={isOn} onChange={(event) => onChange(event.target.checked)} />
        <span className="font-semibold">{label}</span>
      </label>
      <p id={id} className="quiet pl-7 text-sm">
        {help}
      </p>
    </div>
  );
}

/** One of a few words; what is usual need not be said. */
export function Chosen({ aria, choices, usual, value, onChange }: Input<string> & { choices: Choice[]; usual: string }) {
  return (
    <select {...aria} className="select w-full" value={value || usual} onChange={(event) => onChange(event.target.value === usual ? null : event.target.value)}>
      {usual === "" && <option value="">not said</option>}
      {choices.map((choice) => (
        <option key={choice.value} value={choice.value}>
          {choice.label}
          {choice.value === usual ? " (usual)" : ""}
        </option>
      ))}
    </select>
  );
}

/** One of the names that there are. */
export function Picked({ aria, choices, value, onChange }: Input<string> & { choices: Choice[] }) {
  const isGone = value !== "" && !choices.some((choice) => choice.value === value);
  return (
    <select {...aria} className="select w-full" value={value} onChange={(event) => onChange(event.target.value)}>
      <option value="">not said</option>
      {isGone && <option value={value}>{value}</option>}
      {choices.map((choice) => (
        <option key={choice.value} value={choice.value}>
          {choice.label}
        </option>
      ))}
    </select>
  );
}

/** Several texts, one a line. */
export function Several({ aria, texts: list, onChange }: { aria: Aria; texts: string[]; onChange: (texts: string[]) => void }) {
  // A line that is only begun must not go while it is typed.
  const [typed, setTyped] = useState(list.join("\n"));
  const read = (text: string) => text.split("\n").map((line) => line.trim()).filter((line) => line !== "");
  const shown = read(typed).join("\n") === list.join("\n") ? typed : list.join("\n");
  return (
    <textarea
      {...aria}
      className="textarea file min-h-0 w-full"
      spellCheck={false}
      rows={Math.min(8, shown.split("\n").length + 1)}
      value={shown}
      onChange={(event) => {
        setTyped(event.target.value);
        onChange(read(event.target.value));
      }}
    />
  );
}

interface Shown {
  label: string;
  help: string;
  needed: boolean;
  mistakes: Schemas["DraftMistake"][];
  changed?: Changed | undefined;
}

/** Several of those that there are. */
export function Ticks({ label, help, mistakes, choices, ticked, onTick }: Shown & { choices: Choice[]; ticked: string[]; onTick: (ticked: string[]) => void }) {
  const gone = ticked.filter((one) => !choices.some((choice) => choice.value === one));
  const all = [...choices, ...gone.map((one) => ({ value: one, label: one, about: "" }))];
  const about = useId();
  return (
    <fieldset className="grid min-w-0 content-start gap-1" aria-describedby={about}>
      <legend className="pb-1 font-semibold">{label}</legend>
      {all.length === 0 && <p className="quiet text-sm">There is none yet.</p>}
      <div className="grid max-h-52 gap-1 overflow-y-auto p-1 sm:grid-cols-2">
        {all.map((choice) => (
          <label key={choice.value} className="flex items-start gap-2">
            <input
              type="checkbox"
              className="checkbox checkbox-sm mt-0.5 rounded-sm"
              checked={ticked.includes(choice.value)}
              onChange={(event) => onTick(event.target.checked ? [...ticked, choice.value] : ticked.filter((other) => other !== choice.value))}
            />
            <span className="min-w-0 [overflow-wrap:anywhere]">
              {choice.label}
              {choice.about && <span className="quiet block text-sm">{choice.about}</span>}
            </span>
          </label>
        ))}
      </div>
      <div id={about} className="grid gap-1 text-sm">
        <Told mistakes={mistakes} />
        <p className="quiet">{help}</p>
      </div>
    </fieldset>
  );
}

/** Names of one's own, each with its value. */
export function Pairs({ label, help, mistakes, name, isTemplate, value, onChange }: Shown & { name: string; isTemplate: boolean; value: Table; onChange: (value: Table | null) => void }) {
  // A name that is only begun is typed here: a table has no two keys of one name.
  const [rows, setRows] = useState<[string, string][]>(() => Object.entries(value).map(([key, one]) => [key, texts(one)[0] ?? ""]));
  const put = (to: [string, string][]) => {
    setRows(to);
    const named = to.filter(([key]) => key.trim() !== "");
    onChange(named.length > 0 ? Object.fromEntries(named) : null);
  };
  const change = (at: number, row: [string, string]) => put(rows.map((one, other) => (other === at ? row : one)));
  return (
    <fieldset className="grid min-w-0 gap-2">
      <legend className="font-semibold">{label}</legend>
      {rows.map(([key, one], at) => (
        // oxlint-disable-next-line react/no-array-index-key -- a row is its place in the list
        <div key={at} className="grid grid-cols-[1fr_1fr_auto] gap-2">
          <input aria-label={`${label}: name ${at + 1}`} className="input input-sm file w-full" value={key} onChange={(event) => change(at, [event.target.value, one])} />
          {isTemplate ? (
            <ChipText aria={{ id: `${name}-${at}`, required: false, "aria-describedby": "", "aria-invalid": false }} label={`${label}: value ${at + 1}`} name={`${name}.${key}`} lines={false} value={one} onChange={(to) => change(at, [key, to])} />
          ) : (
            <input aria-label={`${label}: value ${at + 1}`} className="input input-sm file w-full" value={one} onChange={(event) => change(at, [key, event.target.value])} />
          )}
          <button type="button" className="btn btn-ghost btn-sm" aria-label={`Remove ${label} ${at + 1}`} onClick={() => put(rows.filter((_, other) => other !== at))}>
            Remove
          </button>
        </div>
      ))}
      <p>
        <button type="button" className="btn btn-sm" aria-label={`Add to ${label}`} onClick={() => setRows([...rows, ["", ""]])}>
          Add
        </button>
      </p>
      <div className="grid gap-1 text-sm">
        <Told mistakes={mistakes} />
        <p className="quiet">{help}</p>
      </div>
    </fieldset>
  );
}

/** The name of a secret; a private key may have a passphrase besides. */
export function Secret({ lines, value, onChange, ...shown }: Shown & { lines: boolean; value: Table | null; onChange: (value: Table | null) => void }) {
  const names = useNames("secret-name");
  const name = texts(value?.secret)[0] ?? "";
  const inner = isTable(value?.passphrase) ? value.passphrase : null;
  return (
    <div className="grid gap-2">
      <Labelled {...shown} help={`${shown.help} Its value is kept in the vault; here stands its name.`}>
        {(aria) => (
          <>
            <Picked aria={aria} choices={names} value={name} onChange={(to) => onChange(to ? { ...value, secret: to } : null)} />
            <NewSecret label={shown.label} lines={lines} name={name} isSet={names.some((one) => one.value === name)} onSet={(to) => onChange({ ...value, secret: to })} />
          </>
        )}
      </Labelled>
      {lines && name !== "" && (
        <Labelled label={`Passphrase of ${name}`} help="Only for a private key that has one." needed={false} mistakes={[]}>
          {(aria) => <Picked aria={aria} choices={names} value={texts(inner?.secret)[0] ?? ""} onChange={(to) => onChange({ ...value, passphrase: to ? { secret: to } : null })} />}
        </Labelled>
      )}
    </div>
  );
}

/** One of several forms that a value may have. */
export function Variants({ variants, name, usual, value, onChange, ...shown }: Shown & { variants: Variant[]; name: string; usual: string; value: Value; onChange: (value: Value) => void }) {
  const word = typeof value === "string" ? value : isTable(value) ? (Object.keys(value)[0] ?? "") : "";
  const chosen = variants.find((variant) => variant.value === (word || usual));
  const pick = (to: string) => {
    const variant = variants.find((one) => one.value === to);
    if (!variant || to === usual) onChange(null);
    else onChange(variant.fields.length > 0 ? { [to]: "" } : to);
  };
  return (
    <div className="grid gap-2">
      <Labelled {...shown} help={chosen?.about ?? shown.help}>
        {(aria) => <Chosen aria={aria} choices={variants} usual={usual} value={word} onChange={(to) => pick(texts(to)[0] ?? "")} />}
      </Labelled>
      {chosen?.fields.map((field) => (
        <VariantField key={field.key} field={field} name={`${name}.${field.key}`} value={isTable(value) ? (value[field.key] ?? "") : ""} onChange={(to) => onChange({ [field.key]: to })} />
      ))}
    </div>
  );
}

function VariantField({ field, name, value, onChange }: { name: string; field: Variant["fields"][number]; value: Value; onChange: (value: Value) => void }) {
  return (
    <Labelled label={field.label === field.key ? field.key.replaceAll("-", " ") : field.label} help={field.help} needed={field.needed} mistakes={[]}>
      {(aria) =>
        field.shape.is === "number" ? (
          <Whole aria={aria} value={value} onChange={(to) => onChange(to ?? "")} />
        ) : field.shape.is === "texts" ? (
          <Several aria={aria} texts={texts(value)} onChange={onChange} />
        ) : field.shape.is === "text" && field.shape.holds.endsWith("template") ? (
          <ChipText aria={aria} label={field.label === field.key ? field.key.replaceAll("-", " ") : field.label} name={name} lines={false} value={typeof value === "string" ? value : ""} onChange={onChange} />
        ) : (
          <Texts aria={aria} holds={field.shape.is === "text" ? field.shape.holds : ""} value={typeof value === "string" ? value : ""} onChange={onChange} />
        )
      }
    </Labelled>
  );
}
