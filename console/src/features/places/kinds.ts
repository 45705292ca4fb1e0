import { queryOptions } from "@tanstack/react-query";

import { api, told } from "../../shared/api/client";

/** A part of a JSON Schema, as far as the form for a place reads it. */
interface Schema {
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
  required?: string[];
  dependentRequired?: Record<string, string[]>;
  seldom?: boolean;
  multiline?: boolean;
}

interface Choice {
  value: string;
  about: string;
}

export interface Field {
  key: string;
  label: string;
  help: string;
  /** What counts if nothing is typed. */
  usual: string;
  needed: boolean;
  seldom: boolean;
  kind: "text" | "list" | "number" | "flag" | "choice" | "secret" | "secret-lines";
  choices: Choice[];
}

export interface Kind {
  kind: string;
  label: string;
  about: string;
  fields: Field[];
  /** Signing in by agreeing, where the kind has it. */
  agreement?: { label: string; help: string; fields: Field[] };
  /** Keys that are said together with another one. */
  together: Record<string, string[]>;
}

/** What an agreement asks for; where its lasting half is kept is not typed. */
const AGREEMENT = ["server", "client", "rights"];

function plain(text: string | undefined): string {
  return (text ?? "").replaceAll("`", "").replaceAll("\n", " ");
}

function fieldOf(root: Schema, key: string, schema: Schema, needed: boolean): Field | undefined {
  const inner = schema.anyOf?.find((one) => one.type !== "null") ?? schema;
  const name = inner.$ref?.replace("#/$defs/", "");
  const meant = name === undefined ? inner : (root.$defs?.[name] ?? inner);
  const is = (type: string) => [meant.type].flat().includes(type);
  const field = {
    key,
    label: schema.title ?? key,
    help: plain(schema.description),
    usual: schema.default === undefined || schema.default === null ? "" : String(schema.default as string | number | boolean),
    needed,
    seldom: schema.seldom ?? false,
    choices: [] as Choice[],
  };
  if (name === "SecretRef") return { ...field, kind: schema.multiline ? "secret-lines" : "secret" };
  if (meant.oneOf) {
    const choices = meant.oneOf.map((one) => ({ value: one.const ?? "", about: plain(one.description) }));
    return { ...field, kind: "choice", choices };
  }
  if (is("boolean")) return { ...field, kind: "flag" };
  if (is("integer")) return { ...field, kind: "number" };
  if (is("string")) return { ...field, kind: "text" };
  // A list of rights is typed with blanks between them, another one a line each; tables are written in the book.
  if (is("array") && meant.items?.type === "string") return { ...field, kind: key === "rights" ? "text" : "list" };
  return undefined;
}

function fieldsOf(root: Schema, shape: Schema): Field[] {
  return Object.entries(shape.properties ?? {}).flatMap(([key, schema]) => fieldOf(root, key, schema, shape.required?.includes(key) ?? false) ?? []);
}

function kindOf(root: Schema, variant: Schema): Kind {
  const { kind, agreement, ...properties } = variant.properties ?? {};
  const agreed = agreement && root.$defs?.AgreementShape;
  const found: Kind = {
    kind: kind?.const ?? "",
    label: variant.title ?? "",
    about: plain(variant.description),
    fields: fieldsOf(root, { ...variant, properties }),
    together: variant.dependentRequired ?? {},
  };
  if (!agreed) return found;
  const fields = fieldsOf(root, agreed).filter((field) => AGREEMENT.includes(field.key));
  return { ...found, agreement: { label: agreement.title ?? "", help: plain(agreement.description), fields } };
}

/** Every kind of place with its fields, as the service's book has them. */
export const placeKinds = queryOptions({
  queryKey: ["book-schema", "places"],
  queryFn: async (): Promise<Kind[]> => {
    const schema = (await told(api.GET("/api/v1/book/schema"))) as Schema;
    return (schema.$defs?.Place?.oneOf ?? []).map((variant) => kindOf(schema, variant));
  },
  staleTime: Number.POSITIVE_INFINITY,
});
