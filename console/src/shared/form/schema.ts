import { queryOptions } from "@tanstack/react-query";

import { api, told } from "../api/client";

/** A part of a JSON Schema, as far as forms read it. */
export interface Schema {
  $ref?: string;
  $defs?: Record<string, Schema>;
  anyOf?: Schema[];
  oneOf?: Schema[];
  type?: string | string[];
  const?: string;
  title?: string;
  description?: string;
  default?: unknown;
  items?: Schema;
  properties?: Record<string, Schema>;
  additionalProperties?: boolean | Schema;
  required?: string[];
  dependentRequired?: Record<string, string[]>;
  /** What a text stands for, as in `place` or `folder-template`. */
  holds?: string;
  /** Under what a step is offered. */
  group?: string;
  seldom?: boolean;
  multiline?: boolean;
}

export interface Choice {
  value: string;
  label: string;
  about: string;
}

/** One of several forms that a value may have: a word, or a table of its own keys. */
export interface Variant extends Choice {
  fields: Field[];
}

/** What is typed or picked for a key. */
export type Shape =
  | { is: "text"; holds: string }
  | { is: "number" }
  | { is: "flag" }
  | { is: "choice"; choices: Choice[] }
  | { is: "choices"; choices: Choice[] }
  /** Several texts; `one` may stand in the book without a list. */
  | { is: "texts"; holds: string; one: boolean }
  | { is: "pairs"; holds: string }
  | { is: "secret"; lines: boolean }
  | { is: "condition" }
  | { is: "variant"; variants: Variant[] }
  | { is: "group"; fields: Field[]; about: string }
  | { is: "groups"; fields: Field[]; about: string }
  | { is: "branches" }
  | { is: "steps" };

/** A key of the book as forms show it. */
export interface Field {
  key: string;
  label: string;
  help: string;
  /** What counts if nothing is said. */
  usual: unknown;
  needed: boolean;
  seldom: boolean;
  shape: Shape;
}

/** A kind of step, place or database. */
export interface Kind {
  kind: string;
  label: string;
  about: string;
  group: string;
  fields: Field[];
  /** Keys that are said together with another one. */
  together: Record<string, string[]>;
}

/** Everything of the book that forms show. */
export interface Forms {
  /** The keys of a kind of section that has no kinds of its own. */
  sections: Record<string, Field[]>;
  places: Kind[];
  databases: Kind[];
  branch: Field[];
  /** Every kind of step, and the keys that all of them have. */
  steps: Kind[];
  step: Field[];
  condition: Field[];
}

/** The words of the book, without the marks of its reference. */
export function plain(text: string | undefined): string {
  return (text ?? "").replaceAll("`", "").replaceAll("\n", " ");
}

/** A word of the book as people read it. */
export const spoken = (word: string): string => word.replaceAll("-", " ");

function meant(root: Schema, schema: Schema): Schema {
  const inner = schema.anyOf?.find((one) => one.type !== "null" && schema.anyOf?.some((other) => other.type === "null")) ?? schema;
  const name = inner.$ref?.replace("#/$defs/", "");
  return name === undefined ? inner : (root.$defs?.[name] ?? inner);
}

const isOf = (schema: Schema, type: string): boolean => [schema.type].flat().includes(type);

function nameOf(schema: Schema): string | undefined {
  const refs = [schema, ...(schema.anyOf ?? [])].flatMap((one) => one.$ref ?? []);
  return refs[0]?.replace("#/$defs/", "");
}

const choicesOf = (schema: Schema): Choice[] =>
  (schema.oneOf ?? []).map((one) => ({ value: one.const ?? "", label: spoken(one.const ?? ""), about: plain(one.description) }));

function variantOf(root: Schema, schema: Schema): Variant {
  if (schema.const !== undefined) return { value: schema.const, label: spoken(schema.const), about: plain(schema.description), fields: [] };
  const value = schema.required?.[0] ?? "";
  const fields = fieldsOf(root, schema).map((field) => ({ ...field, label: spoken(field.label) }));
  return { value, label: spoken(value), about: plain(schema.description), fields };
}

function shapeOf(root: Schema, schema: Schema): Shape {
  const name = nameOf(schema);
  const shape = meant(root, schema);
  if (name === "Condition") return { is: "condition" };
  if (name === "SecretRef") return { is: "secret", lines: schema.multiline ?? false };
  if (name === "OneOrMany") return { is: "texts", holds: schema.holds ?? "", one: true };
  if (shape.oneOf) {
    if (shape.oneOf.every((one) => one.const !== undefined)) return { is: "choice", choices: choicesOf(shape) };
    return { is: "variant", variants: shape.oneOf.map((one) => variantOf(root, one)) };
  }
  if (isOf(shape, "boolean")) return { is: "flag" };
  if (isOf(shape, "integer")) return { is: "number" };
  if (isOf(shape, "array")) {
    const [items, of] = [shape.items ?? {}, nameOf(shape.items ?? {})];
    if (of === "Step") return { is: "steps" };
    if (of === "Branch") return { is: "branches" };
    if (of === "Condition") return { is: "condition" };
    const item = meant(root, items);
    if (item.oneOf) return { is: "choices", choices: choicesOf(item) };
    if (item.properties) return { is: "groups", fields: fieldsOf(root, item), about: plain(item.description) };
    return { is: "texts", holds: items.holds ?? "", one: false };
  }
  if (typeof shape.additionalProperties === "object") return { is: "pairs", holds: shape.additionalProperties.holds ?? "" };
  if (isOf(shape, "object")) return { is: "group", fields: fieldsOf(root, shape), about: plain(shape.description) };
  return { is: "text", holds: schema.holds ?? shape.holds ?? "" };
}

/** The keys of a table, in the order of the book. */
export function fieldsOf(root: Schema, schema: Schema): Field[] {
  const properties = Object.entries(schema.properties ?? {}).filter(([, property]) => property.const === undefined);
  return properties.map(([key, property]) => ({
    key,
    label: property.title ?? key,
    help: plain(property.description),
    usual: property.default ?? undefined,
    needed: schema.required?.includes(key) ?? false,
    seldom: property.seldom ?? false,
    shape: shapeOf(root, property),
  }));
}

function kindOf(root: Schema, schema: Schema): Kind {
  return {
    kind: schema.properties?.kind?.const ?? "",
    label: schema.title ?? "",
    about: plain(schema.description),
    group: "",
    fields: fieldsOf(root, schema),
    together: schema.dependentRequired ?? {},
  };
}

// A step is a table with its kind as the key of what it is told, beside keys that every step has.
function stepOf(root: Schema, schema: Schema): Kind {
  const kind = schema.required?.[0] ?? "";
  const own = meant(root, schema.properties?.[kind] ?? {});
  const about = plain(schema.description);
  return { kind, label: schema.title ?? kind, about, group: schema.group ?? "", fields: fieldsOf(root, own), together: own.dependentRequired ?? {} };
}

/** Reads the forms out of the book's schema. */
export function formsOf(root: Schema): Forms {
  const defs = root.$defs ?? {};
  const fields = (name: string): Field[] => fieldsOf(root, defs[name] ?? {});
  const steps = defs.Step?.oneOf ?? [];
  const [first] = steps;
  const every = { ...first, properties: Object.fromEntries(Object.entries(first?.properties ?? {}).filter(([key]) => key !== first?.required?.[0])) };
  return {
    sections: { partner: fields("Partner"), account: fields("Account"), calendar: fields("Calendar"), twin: fields("Twin"), rule: fields("Rule") },
    places: (defs.Place?.oneOf ?? []).map((one) => kindOf(root, one)),
    databases: (defs.Database?.oneOf ?? []).map((one) => kindOf(root, one)),
    branch: fields("Branch"),
    steps: steps.map((one) => stepOf(root, one)),
    step: fieldsOf(root, every),
    condition: fields("Condition"),
  };
}

/** The forms, as the service's own book has them: they change with the service alone. */
export const formsQuery = queryOptions({
  queryKey: ["book-schema", "forms"],
  queryFn: async (): Promise<Forms> => formsOf((await told(api.GET("/api/v1/book/schema"))) as Schema),
  staleTime: Number.POSITIVE_INFINITY,
});
