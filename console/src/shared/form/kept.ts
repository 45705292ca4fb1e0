import type { Table } from "./values";

/** What is in hand of a section, as the browser keeps it until it is in force or discarded. */
export interface Kept {
  name: string;
  value: Table;
  /** The text so far, whose comments are kept. */
  old?: string | undefined;
  /** The text that was in force when the change began; empty for something new. */
  base: string;
  /** Its version; none for something new. */
  version: number | undefined;
}

const keyOf = (kind: string, name: string): string => `wetbank draft ${kind} ${name}`;

/** What was kept of a section; `name` is empty for a new one. */
export function kept(kind: string, name: string): Kept | undefined {
  try {
    const text = localStorage.getItem(keyOf(kind, name));
    return text === null ? undefined : (JSON.parse(text) as Kept);
  } catch {
    // Another version of this page wrote it, or the browser keeps nothing.
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
