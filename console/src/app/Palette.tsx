import { useQuery } from "@tanstack/react-query";
import { type KeyboardEvent, useEffect, useId, useMemo, useRef, useState } from "react";
import { useNavigate } from "react-router";

import { partnersQuery } from "../features/partners/queries";
import { rulesQuery } from "../features/rules/queries";
import { twinsQuery } from "../features/twins/queries";
import { placesQuery } from "../shared/api/status";
import { Dialog } from "../shared/ui/Dialog";

interface Entry {
  words: string;
  of: string;
  to: string;
}

const FIXED: Entry[] = [
  { words: "Today", of: "page", to: "/" },
  { words: "Rules", of: "page", to: "/rules" },
  { words: "Runs", of: "page", to: "/runs" },
  { words: "What is held", of: "page", to: "/runs?state=held" },
  { words: "Places", of: "page", to: "/places" },
  { words: "Two places side by side", of: "page", to: "/places/side-by-side" },
  { words: "Twins: folders kept alike", of: "page", to: "/twins" },
  { words: "Partners", of: "page", to: "/partners" },
  { words: "Settings: keys, secrets, calendars, databases", of: "page", to: "/settings" },
  { words: "What would happen to a file, or why nothing did", of: "page", to: "/explain" },
  { words: "New rule", of: "make", to: "/rules/new" },
  { words: "Add a place", of: "make", to: "/places/new" },
  { words: "Add a twin", of: "make", to: "/twins/new" },
  { words: "Add a partner", of: "make", to: "/partners/new" },
  { words: "Add a calendar", of: "make", to: "/settings/calendars/new" },
  { words: "Add a database", of: "make", to: "/settings/databases/new" },
];

/** Entries that are shown. */
const MOST = 12;

/** Whether every word that was typed begins a word of the entry, or is part of its name. */
function fits(entry: Entry, typed: string): boolean {
  const said = `${entry.words} ${entry.to}`.toLowerCase();
  return typed
    .toLowerCase()
    .split(/\s+/)
    .every((word) => said.includes(word));
}

function Entries({ onGo }: { onGo: (to: string) => void }) {
  const id = useId();
  const field = useRef<HTMLInputElement>(null);
  useEffect(() => field.current?.focus(), []);
  const [typed, setTyped] = useState("");
  const [at, setAt] = useState(0);
  const rules = useQuery(rulesQuery);
  const places = useQuery(placesQuery);
  const twins = useQuery(twinsQuery);
  const partners = useQuery(partnersQuery);
  const all = useMemo<Entry[]>(
    () => [
      ...FIXED,
      ...(rules.data ?? []).map((rule) => ({ words: rule.title, of: "rule", to: `/rules/${rule.name}` })),
      ...(places.data ?? []).map((place) => ({ words: place.name, of: "place", to: `/places/${place.name}` })),
      ...(twins.data ?? []).map((twin) => ({ words: twin.title, of: "twin", to: `/twins/${twin.name}` })),
      ...(partners.data ?? []).map((partner) => ({ words: partner.title, of: "partner", to: `/partners/${partner.name}` })),
    ],
    [rules.data, places.data, twins.data, partners.data],
  );
  const found = all.filter((entry) => fits(entry, typed)).slice(0, MOST);
  const chosen = Math.min(at, found.length - 1);
  const turn = (event: KeyboardEvent) => {
    const step = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    if (step !== undefined) {
      event.preventDefault();
      setAt((chosen + step + found.length) % Math.max(1, found.length));
    }
    const entry = found[chosen];
    if (event.key === "Enter" && entry) onGo(entry.to);
  };
  return (
    <div className="grid gap-2">
      <input
        ref={field}
        className="input w-full"
        role="combobox"
        aria-label="Where to, or what to make"
        aria-expanded
        aria-controls={id}
        aria-activedescendant={found[chosen] ? `${id}-${chosen}` : undefined}
        placeholder="A rule, a place, a page…"
        value={typed}
        onChange={(event) => {
          setTyped(event.target.value);
          setAt(0);
        }}
        onKeyDown={turn}
      />
      {/* oxlint-disable-next-line jsx-a11y/prefer-tag-over-role -- a datalist shows nothing besides the words */}
      <div role="listbox" id={id} aria-label="What fits">
        {found.map((entry, number) => (
          <div
            key={entry.to}
            id={`${id}-${number}`}
            // oxlint-disable-next-line jsx-a11y/prefer-tag-over-role -- as above
            role="option"
            aria-selected={number === chosen}
            tabIndex={-1}
            className={`flex cursor-pointer justify-between gap-4 rounded px-3 py-1 ${number === chosen ? "bg-primary text-primary-content" : ""}`}
            onClick={() => onGo(entry.to)}
            onKeyDown={turn}
          >
            <span className="min-w-0 [overflow-wrap:anywhere]">{entry.words}</span>
            <span className={number === chosen ? "text-sm" : "quiet text-sm"}>{entry.of}</span>
          </div>
        ))}
      </div>
      {found.length === 0 && <p className="quiet px-3">Nothing is called so. A file is found with the field above: press /</p>}
    </div>
  );
}

/** Ctrl+K: to any page, rule, place or partner by a few letters. */
export function Palette() {
  const navigate = useNavigate();
  const [isOpen, setOpen] = useState(false);
  useEffect(() => {
    const hear = (event: globalThis.KeyboardEvent) => {
      if (event.key.toLowerCase() !== "k" || !(event.ctrlKey || event.metaKey)) return;
      event.preventDefault();
      setOpen((now) => !now);
    };
    document.addEventListener("keydown", hear);
    return () => document.removeEventListener("keydown", hear);
  }, []);
  return (
    <Dialog title="Go to" open={isOpen} onClose={() => setOpen(false)}>
      <Entries
        onGo={(to) => {
          setOpen(false);
          void navigate(to);
        }}
      />
    </Dialog>
  );
}
