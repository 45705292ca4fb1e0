import type { Field, Forms, Kind } from "./schema";

/** A value as the book has it, but that `null` stands where nothing is said. */
export type Value = string | number | boolean | null | Value[] | Table;
export interface Table {
  [key: string]: Value;
}

export const isTable = (value: Value | undefined): value is Table => typeof value === "object" && value !== null && !Array.isArray(value);
export const tables = (value: Value | undefined): Table[] => (Array.isArray(value) ? value.filter(isTable) : []);
export const texts = (value: Value | undefined): string[] => (Array.isArray(value) ? value : [value]).filter((one) => typeof one === "string");

/** What stands behind a key such as `branch.0.title`. */
export function at(value: Value | undefined, name: string): Value | undefined {
  let found = value;
  for (const part of name.split(".")) {
    if (part === "") continue;
    found = Array.isArray(found) ? found[Number(part)] : isTable(found) ? found[part] : undefined;
  }
  return found;
}

/** The same place as a JSON pointer (RFC 6901). */
export const pointer = (name: string): string => (name === "" ? "" : `/${name.replaceAll(".", "/")}`);

/** The kind of a step: the key that no other step has. */
export function stepKind(forms: Forms, step: Table): Kind | undefined {
  return forms.steps.find((kind) => step[kind.kind] !== undefined && step[kind.kind] !== null);
}

function filledStep(forms: Forms, step: Table): Table {
  const kind = stepKind(forms, step);
  const own = kind && step[kind.kind];
  return { ...filled(forms, forms.step, step), ...(kind && { [kind.kind]: filled(forms, kind.fields, isTable(own) ? own : {}) }) };
}

/** A table with every key that it may have: a field that is emptied must not show again what was in it. */
export function filled(forms: Forms, fields: Field[], table: Table): Table {
  const said = fields.map(({ key, shape, needed }): [string, Value] => {
    const value = table[key] ?? null;
    if (shape.is === "steps" && value !== null) return [key, tables(value).map((step) => filledStep(forms, step))];
    if (shape.is === "branches") return [key, tables(value).map((branch) => filled(forms, forms.branch, branch))];
    if (shape.is === "groups" && value !== null) return [key, tables(value).map((one) => filled(forms, shape.fields, one))];
    if (shape.is === "group" && (needed || isTable(value))) return [key, filled(forms, shape.fields, isTable(value) ? value : {})];
    return [key, value];
  });
  return { ...table, ...Object.fromEntries(said) };
}

/** A new step of a kind, with nothing said. */
export function newStep(forms: Forms, kind: Kind): Table {
  return filledStep(forms, { [kind.kind]: {} });
}

/** The value for the book: without what is not said. */
export function stripped(value: Value): Value {
  if (Array.isArray(value)) return value.filter((one) => one !== null).map(stripped);
  if (!isTable(value)) return value;
  return Object.fromEntries(
    Object.entries(value)
      .filter(([, one]) => one !== null && one !== undefined)
      .map(([key, one]) => [key, stripped(one)]),
  );
}

export const same = (a: Value | undefined, b: Value | undefined): boolean => JSON.stringify(a) === JSON.stringify(b);

/** What two made of the same value, key by key; where both changed one, `mine` stays. */
export function merged3(before: Value | undefined, mine: Value | undefined, theirs: Value | undefined): Value | undefined {
  if (same(mine, before)) return theirs;
  if (same(theirs, before)) return mine;
  if (isTable(mine) && isTable(theirs)) {
    const old = isTable(before) ? before : {};
    const keys = [...new Set([...Object.keys(theirs), ...Object.keys(mine)])];
    const all = keys.map((key) => [key, merged3(old[key], mine[key], theirs[key])] as const);
    return Object.fromEntries(all.filter((pair): pair is [string, Value] => pair[1] !== undefined));
  }
  if (Array.isArray(mine) && Array.isArray(theirs) && Array.isArray(before) && mine.length === before.length && theirs.length === before.length) {
    return mine.map((one, number) => merged3(before[number], one, theirs[number]) ?? null);
  }
  return mine;
}
