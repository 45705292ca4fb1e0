import * as z from "zod/mini";

import type { Table, Value } from "./values";

const value: z.ZodMiniType<Value> = z.lazy(() => z.union([z.string(), z.number(), z.boolean(), z.null(), z.array(value), z.record(z.string(), value)]));

const known = z.object({
  name: z.string(),
  value: z.record(z.string(), value),
  /** The text so far, whose comments are kept. */
  old: z.optional(z.string()),
  /** The text that was in force when the change began; empty for something new. */
  base: z.string(),
  /** Its version; none for something new. */
  version: z.optional(z.number()),
});

/** What is in hand of a section, as the browser keeps it until it is in force or discarded. */
export type Kept = Omit<z.infer<typeof known>, "value"> & { value: Table };

const keyOf = (kind: string, name: string): string => `wetbank draft ${kind} ${name}`;

/** What was kept of a section; `name` is empty for a new one. What another version of this page wrote, or nobody did, is none. */
export function kept(kind: string, name: string): Kept | undefined {
  try {
    return known.safeParse(JSON.parse(localStorage.getItem(keyOf(kind, name)) ?? "null")).data;
  } catch {
    // It is no JSON, or the browser keeps nothing.
    return undefined;
  }
}

export function keep(kind: string, name: string, draft: Kept | undefined): void {
  try {
    if (draft) localStorage.setItem(keyOf(kind, name), JSON.stringify(draft));
    else localStorage.removeItem(keyOf(kind, name));
  } catch {
    // A browser that keeps nothing loses a draft with its window, and nothing else.
  }
}
