/** What the form for a new partner holds. */
export interface PartnerDraft {
  name: string;
  title: string;
  note: string;
  people: { name: string; role: string; mail: string; phone: string }[];
  places: string[];
  keys: string[];
  to: string;
  folder: string;
  exists: string;
  encrypt: boolean;
  from: string;
  until: string;
}

export const emptyPerson = { name: "", role: "", mail: "", phone: "" };

// A JSON text is a text of the book, too.
const quoted = (text: string) => JSON.stringify(text.trim());
const list = (names: string[]) => `[${names.map(quoted).join(", ")}]`;

/** The partner as the book has it. */
export function partnerText(draft: PartnerDraft): string {
  const people = draft.people.filter((person) => person.name.trim() !== "");
  const person = (one: (typeof people)[number]) =>
    `  { ${Object.entries(one)
      .filter(([key, value]) => key === "name" || value.trim() !== "")
      .map(([key, value]) => `${key} = ${quoted(value)}`)
      .join(", ")} },\n`;
  const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;
  const delivery = [
    `to = ${quoted(draft.to)}`,
    draft.folder.trim() && `folder = ${quoted(draft.folder)}`,
    `exists = ${quoted(draft.exists)}`,
    `encrypt = ${String(draft.encrypt)}`,
    draft.from && draft.until && `quiet = { from = ${quoted(draft.from)}, until = ${quoted(draft.until)}, zone = ${quoted(zone)} }`,
  ];
  return [
    `[partner.${draft.name.trim() || "new-partner"}]\n`,
    draft.title.trim() && `title    = ${quoted(draft.title)}\n`,
    draft.note.trim() && `note     = ${quoted(draft.note)}\n`,
    people.length > 0 && `people   = [\n${people.map(person).join("")}]\n`,
    draft.places.length > 0 && `places   = ${list(draft.places)}\n`,
    draft.keys.length > 0 && `keys     = ${list(draft.keys)}\n`,
    draft.to && `delivery = { ${delivery.filter(Boolean).join(", ")} }\n`,
  ]
    .filter(Boolean)
    .join("");
}
