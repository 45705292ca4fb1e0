import type { Schemas } from "../api/client";

type Known = Schemas["KnownValue"];

/** A piece of a text with placeholders. */
export interface Piece {
  raw: string;
  /** What a placeholder says; nothing for what is typed. */
  title?: string;
}

/** Patterns of a date, chosen by what they make of today. */
export const PATTERNS = ["%Y-%m-%d", "%Y-%m", "%Y", "%m", "%d", "%Y%m%d", "%Y/%m/%d", "%G-W%V", "%d %B %Y", "%H%M", "%Y-%m-%d_%H%M%S"];

const two = (number: number): string => String(number).padStart(2, "0");

// Week of the year (ISO 8601): the one with Thursday in it.
function week(day: Date): [number, number] {
  const thursday = new Date(day.getFullYear(), day.getMonth(), day.getDate() + 4 - (day.getDay() || 7));
  const days = Math.round((thursday.getTime() - new Date(thursday.getFullYear(), 0, 1).getTime()) / 86_400_000);
  return [thursday.getFullYear(), Math.floor(days / 7) + 1];
}

/** What a pattern makes of a time; nothing for one that only the service can tell. */
export function patterned(pattern: string, at: Date): string | undefined {
  const [year, number] = week(at);
  const parts: Record<string, string> = {
    Y: String(at.getFullYear()),
    m: two(at.getMonth() + 1),
    d: two(at.getDate()),
    H: two(at.getHours()),
    M: two(at.getMinutes()),
    S: two(at.getSeconds()),
    G: String(year),
    V: two(number),
    B: at.toLocaleString("en", { month: "long" }),
  };
  const made = pattern.replaceAll(/%(.)/g, (whole, letter: string) => parts[letter] ?? whole);
  return made.includes("%") ? undefined : made;
}

const WORD = /^([a-z.]+|signal\.[\w.]+)\s*(?:\|\s*date\(\s*(['"])(.*?)\2\s*\)\s*)?(?:\|\s*pad\(\s*(\d+)\s*\)\s*)?$/;

function titleOf(inner: string, known: Known[]): string | undefined {
  const [, word = "", , pattern, width] = WORD.exec(inner) ?? [];
  const found = known.find((one) => one.word === word);
  const named = found ? `${groupOf(found)}${found.title}` : word.startsWith("signal.") ? `signal: ${word.slice("signal.".length)}` : undefined;
  if (named === undefined) return undefined;
  if (pattern !== undefined) return `${named}, as ${patterned(pattern, new Date()) ?? pattern}`;
  return width === undefined ? named : `${named}, ${width} digits`;
}

// "Its number" alone does not say whose.
const groupOf = (one: Known): string => (one.group === "Now" ? "" : `${one.group.replace(/^The /, "").toLowerCase()}: `);

/** A text as what is typed, and placeholders with the names that people have for them. */
export function pieces(text: string, known: Known[]): Piece[] {
  const found: Piece[] = [];
  let from = 0;
  for (const match of text.matchAll(/\{\{\s*(.*?)\s*\}\}|\{%.*?%\}/gs)) {
    const title = match[1] === undefined ? undefined : titleOf(match[1], known);
    if (match.index > from) found.push({ raw: text.slice(from, match.index) });
    found.push({ raw: match[0], title: title ?? match[0].replaceAll(/^\{[{%]\s*|\s*[}%]\}$/g, "") });
    from = match.index + match[0].length;
  }
  if (from < text.length) found.push({ raw: text.slice(from) });
  return found;
}
