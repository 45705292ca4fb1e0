import { type KeyboardEvent, useEffect, useRef, useState } from "react";

import type { Schemas } from "../api/client";
import { PATTERNS, patterned } from "./template";

type Known = Schemas["KnownValue"];

interface Entry {
  key: string;
  title: string;
  value: string;
  raw: string;
}

/** What can be put into a text, with what each is for the file that the rule is tried with. */
export function Insert({ known, onPick, onClose }: { known: Known[]; onPick: (raw: string) => void; onClose: () => void }) {
  const [typed, setTyped] = useState("");
  const [time, setTime] = useState<Known>();
  const list = useRef<HTMLDialogElement>(null);
  const first = useRef<HTMLInputElement>(null);
  useEffect(() => first.current?.focus(), []);

  const groups = new Map<string, Entry[]>();
  if (time) {
    const patterns = PATTERNS.map((pattern) => ({ key: pattern, title: patterned(pattern, new Date()) ?? pattern, value: pattern, raw: `{{ ${time.word} | date('${pattern}') }}` }));
    groups.set(`${time.group}: ${time.title}, as`, patterns);
  } else {
    for (const one of known) {
      const entry = { key: one.word, title: one.title, value: one.value ?? "", raw: `{{ ${one.word} }}` };
      groups.set(one.group, [...(groups.get(one.group) ?? []), entry]);
    }
  }
  const isMeant = (group: string, { title, key }: Entry): boolean => `${group} ${title} ${key}`.toLowerCase().includes(typed.trim().toLowerCase());
  const pick = (entry: Entry) => {
    const of = time ? undefined : known.find((one) => one.word === entry.key && one.is_time);
    if (!of) return onPick(entry.raw);
    setTyped("");
    setTime(of);
    first.current?.focus();
  };
  const keys = (event: KeyboardEvent) => {
    const buttons = [...(list.current?.querySelectorAll<HTMLButtonElement>("button[data-entry]") ?? [])];
    const here = buttons.indexOf(document.activeElement as HTMLButtonElement);
    const step = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    if (event.key === "Escape") {
      event.stopPropagation();
      if (time) setTime(undefined);
      else onClose();
    } else if (step !== undefined) {
      event.preventDefault();
      (buttons[here + step] ?? (step < 0 ? first.current : buttons[0]))?.focus();
    } else if (event.key === "Enter" && here < 0) {
      event.preventDefault();
      buttons[0]?.click();
    }
  };
  const shown = [...groups].map(([group, entries]) => [group, entries.filter((entry) => isMeant(group, entry))] as const).filter(([, entries]) => entries.length > 0);
  return (
    <dialog ref={list} open aria-label="Insert" className="insert">
      <input ref={first} className="input input-sm w-full" aria-label="Type to narrow" placeholder="Type to narrow" onKeyDown={keys} value={typed} onChange={(event) => setTyped(event.target.value)} />
      <div className="max-h-72 overflow-y-auto">
        {shown.length === 0 && <p className="quiet p-2 text-sm">Nothing of this name is known here.</p>}
        {shown.map(([group, entries]) => (
          <section key={group} aria-label={group} className="border-base-300 border-t py-1 first:border-0">
            <h3 className="px-2 text-sm font-semibold">{group}</h3>
            {entries.map((entry) => (
              <button key={entry.key} type="button" data-entry className="insert-entry" onKeyDown={keys} onClick={() => pick(entry)}>
                <span>
                  {entry.title}
                  {!time && known.find((one) => one.word === entry.key)?.is_time && ", as… ▸"}
                </span>
                <span className="file quiet truncate text-right">{entry.value}</span>
              </button>
            ))}
          </section>
        ))}
      </div>
    </dialog>
  );
}
