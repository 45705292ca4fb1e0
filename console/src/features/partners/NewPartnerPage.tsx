import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";

import { type Key, type Place, api, told } from "../../shared/api/client";
import { placesQuery } from "../../shared/api/status";
import { BookText } from "../../shared/ui/BookText";
import { Crumbs } from "../../shared/ui/Crumbs";
import { Dialog } from "../../shared/ui/Dialog";
import { FolderList } from "../../shared/ui/FolderList";
import { Shown } from "../../shared/ui/states";
import { type PartnerDraft, emptyPerson, partnerText } from "./partnerText";

const collisions = [
  { value: "refuse", label: "hold the file and ask" },
  { value: "replace", label: "replace what is there" },
  { value: "keep-both", label: "keep both" },
  { value: "skip-same", label: "skip it if it is the same, else ask" },
];

function Labelled({ label, children }: { label: string; children: ReactNode }) {
  return (
    <label className="grid content-start gap-1">
      <span className="font-semibold">{label}</span>
      {children}
    </label>
  );
}

function Ticks({ legend, none, all, ticked, onTick }: { legend: string; none: string; all: string[]; ticked: string[]; onTick: (ticked: string[]) => void }) {
  return (
    <fieldset className="grid content-start gap-1">
      <legend className="pb-1 font-semibold">{legend}</legend>
      {all.length === 0 && <p className="quiet text-sm">{none}</p>}
      {all.map((one) => (
        <label key={one} className="flex items-center gap-2">
          <input
            type="checkbox"
            className="checkbox checkbox-sm rounded-sm"
            checked={ticked.includes(one)}
            onChange={(event) => onTick(event.target.checked ? [...ticked, one] : ticked.filter((other) => other !== one))}
          />
          <span className="file">{one}</span>
        </label>
      ))}
    </fieldset>
  );
}

/** A folder of a place, typed or picked by going there. */
function PickedFolder({ place, folder, onFolder }: { place: string; folder: string; onFolder: (folder: string) => void }) {
  const [open, setOpen] = useState(false);
  const [at, setAt] = useState("");
  return (
    <div className="grid gap-1">
      <Labelled label="Folder">
        <input className="input file w-full" value={folder} placeholder="{{ today }}" onChange={(event) => onFolder(event.target.value)} />
      </Labelled>
      <p>
        <button type="button" className="btn btn-xs" disabled={!place} onClick={() => setOpen(true)}>
          Pick a folder
        </button>
      </p>
      <Dialog title={`A folder of ${place}`} open={open} onClose={() => setOpen(false)}>
        <FolderList place={place} folder={at} onFolder={setAt} />
        <p className="flex gap-2 pt-3">
          <button
            type="button"
            className="btn btn-sm btn-primary"
            onClick={() => {
              onFolder(at);
              setOpen(false);
            }}
          >
            Take {at ? `“${at}”` : "the root"}
          </button>
          <button type="button" className="btn btn-ghost btn-sm" onClick={() => setOpen(false)}>
            Cancel
          </button>
        </p>
      </Dialog>
    </div>
  );
}

function Form({ places, keys }: { places: Place[]; keys: Key[] }) {
  const [draft, setDraft] = useState<PartnerDraft>({
    name: "",
    title: "",
    note: "",
    people: [emptyPerson],
    places: [],
    keys: [],
    to: "",
    folder: "",
    exists: "refuse",
    encrypt: false,
    from: "",
    until: "",
  });
  const set = (change: Partial<PartnerDraft>) => setDraft((before) => ({ ...before, ...change }));
  const text = partnerText(draft);
  return (
    <div className="grid items-start gap-5 lg:grid-cols-2">
      <div className="panel">
        <div className="grid gap-4 px-5 py-4">
          <div className="grid gap-4 sm:grid-cols-2">
            <Labelled label="Name for people">
              <input className="input w-full" value={draft.title} placeholder="Skerrow Harbour Office" onChange={(event) => set({ title: event.target.value })} />
            </Labelled>
            <Labelled label="Name in rules">
              <input className="input file w-full" value={draft.name} placeholder="skerrow" pattern="[a-z0-9][a-z0-9_\-]{0,63}" onChange={(event) => set({ name: event.target.value })} />
            </Labelled>
          </div>
          <Labelled label="Note">
            <textarea className="textarea w-full" rows={2} value={draft.note} placeholder="What was agreed, and with whom" onChange={(event) => set({ note: event.target.value })} />
          </Labelled>
          <fieldset className="grid gap-2">
            <legend className="pb-1 font-semibold">People</legend>
            {draft.people.map((person, at) => (
              <div key={at} className="grid grid-cols-2 gap-2 xl:grid-cols-4">
                {(["name", "role", "mail", "phone"] as const).map((field) => (
                  <input
                    key={field}
                    aria-label={`${field} of person ${at + 1}`}
                    className="input input-sm w-full"
                    placeholder={field}
                    value={person[field]}
                    onChange={(event) => set({ people: draft.people.map((one, other) => (other === at ? { ...one, [field]: event.target.value } : one)) })}
                  />
                ))}
              </div>
            ))}
            <p>
              <button type="button" className="btn btn-xs" onClick={() => set({ people: [...draft.people, emptyPerson] })}>
                Another person
              </button>
            </p>
          </fieldset>
          <div className="grid gap-4 sm:grid-cols-2">
            <Ticks legend="Its places" none="There is no place yet." all={places.map((place) => place.name)} ticked={draft.places} onTick={(ticked) => set({ places: ticked })} />
            <Ticks legend="Its OpenPGP keys" none="No key was imported yet: wetbank key import NAME FILE" all={keys.map((key) => key.name)} ticked={draft.keys} onTick={(ticked) => set({ keys: ticked })} />
          </div>
          <fieldset className="grid gap-3 sm:grid-cols-2">
            <legend className="pb-1 font-semibold">How it takes what you deliver</legend>
            <Labelled label="To the place">
              <select className="select w-full" value={draft.to} onChange={(event) => set({ to: event.target.value })}>
                <option value="">not yet said</option>
                {places.map((place) => (
                  <option key={place.name} value={place.name}>
                    {place.name}
                  </option>
                ))}
              </select>
            </Labelled>
            <PickedFolder place={draft.to} folder={draft.folder} onFolder={(folder) => set({ folder })} />
            <Labelled label="When the name is taken">
              <select className="select w-full" value={draft.exists} onChange={(event) => set({ exists: event.target.value })}>
                {collisions.map((one) => (
                  <option key={one.value} value={one.value}>
                    {one.label}
                  </option>
                ))}
              </select>
            </Labelled>
            <label className="flex items-center gap-2 self-end pb-2">
              <input type="checkbox" className="checkbox checkbox-sm rounded-sm" checked={draft.encrypt} onChange={(event) => set({ encrypt: event.target.checked })} />
              only encrypted to its keys
            </label>
            <Labelled label="Quiet from">
              <input type="time" className="input w-full" value={draft.from} onChange={(event) => set({ from: event.target.value })} />
            </Labelled>
            <Labelled label="until">
              <input type="time" className="input w-full" value={draft.until} onChange={(event) => set({ until: event.target.value })} />
            </Labelled>
          </fieldset>
        </div>
      </div>
      <section aria-label="Its text in the book" className="panel">
        <div className="grid gap-2 px-5 py-4">
          <h2 className="font-semibold">Its text in the book</h2>
          <p className="quiet text-sm">The form writes it; it may be changed here before it is put in force.</p>
          <BookText key={text} kind="partner" name="" text={text} isNew />
        </div>
      </section>
    </div>
  );
}

export function NewPartnerPage() {
  const places = useQuery(placesQuery);
  const keys = useQuery({ queryKey: ["live", "keys"], queryFn: () => told(api.GET("/api/v1/keys")) });
  return (
    <>
      <Crumbs to="/partners" above="Partners" here="new" />
      <h1 className="pb-3 text-2xl font-bold tracking-tight">Add a partner</h1>
      <Shown query={places}>{(found) => <Form places={found} keys={keys.data ?? []} />}</Shown>
    </>
  );
}
