import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { type Schemas, type Verdict, api, told } from "../../../shared/api/client";
import type { Draft } from "../../../shared/form/useDraft";
import { Dialog } from "../../../shared/ui/Dialog";
import { FolderList } from "../../../shared/ui/FolderList";
import { size, splitPath } from "../../../shared/ui/format";
import { placesQuery } from "../../../shared/api/status";

export type SampleFile = Schemas["SampleFile"];

/** A file that lies there, picked by going there. */
function ChooseFile({ place: begun, isOpen, onClose, onChoose }: { place: string | undefined; isOpen: boolean; onClose: () => void; onChoose: (file: SampleFile) => void }) {
  const places = useQuery(placesQuery);
  const [picked, setPlace] = useState<string>();
  const [folder, setFolder] = useState("");
  const [failed, setFailed] = useState("");
  const place = picked ?? begun ?? places.data?.[0]?.name;
  const choose = async (file: string) => {
    try {
      const seen = await told(api.GET("/api/v1/explain", { params: { query: { file } } }));
      onChoose({ file, size: seen.size ?? 0, modified: seen.modified ?? new Date().toISOString() });
    } catch (error) {
      setFailed(error instanceof Error ? error.message : String(error));
    }
  };
  return (
    <Dialog title="Try it with which file?" open={isOpen} onClose={onClose}>
      <label className="flex items-center gap-2 pb-2">
        Place
        <select
          className="select select-sm"
          value={place}
          onChange={(event) => {
            setPlace(event.target.value);
            setFolder("");
          }}
        >
          {places.data?.map(({ name }) => (
            <option key={name} value={name}>
              {name}
            </option>
          ))}
        </select>
      </label>
      {failed && (
        <p role="alert" className="text-error pb-2">
          {failed}
        </p>
      )}
      {place && <FolderList key={place} place={place} folder={folder} onFolder={setFolder} onFile={(file) => void choose(file)} />}
      <p className="pt-3">
        <button type="button" className="btn btn-sm" onClick={onClose}>
          Cancel
        </button>
      </p>
    </Dialog>
  );
}

/** What was asked of the file, and what it answered. */
function Asked({ verdict }: { verdict: Verdict }) {
  const parts = verdict.parts ?? [];
  if (parts.length > 0 && verdict.holds) return parts.map((part) => <Asked key={`${part.asked} ${part.found}`} verdict={part} />);
  return (
    <li className="flex gap-2">
      <span aria-hidden className={verdict.holds ? "text-success" : "text-error"}>
        {verdict.holds ? "✓" : "✕"}
      </span>
      <span className="min-w-0 [overflow-wrap:anywhere]">
        {verdict.asked}
        {!verdict.holds && verdict.found && <span className="quiet">, here {verdict.found}</span>}
        <span className="sr-only">{verdict.holds ? ": holds" : ": does not hold"}</span>
      </span>
    </li>
  );
}

/** What a draft would do with one file; nothing is touched. */
export function TryIt({ draft, place, file, onFile }: { draft: Draft; place: string | undefined; file: SampleFile | undefined; onFile: (file: SampleFile) => void }) {
  const [isChoosing, setChoosing] = useState(false);
  const { tried } = draft;
  const at = tried ? tried.branches.findIndex(({ verdict }) => verdict.holds) : -1;
  const takes = tried?.taken === true;
  const branch = takes ? draft.branches[at] : undefined;
  return (
    <section aria-label="Try it" className="grid gap-2">
      <h2 className="font-semibold">Try it</h2>
      <p className="border-base-300 flex flex-wrap items-center justify-between gap-2 rounded border px-3 py-2">
        <span className="file min-w-0 [overflow-wrap:anywhere]">{file ? splitPath(file.file).name : "no file yet"}</span>
        <button type="button" className="link text-sm" aria-label="Choose a file to try it with" onClick={() => setChoosing(true)}>
          choose…
        </button>
      </p>
      {file && (
        <p className="quiet text-sm [overflow-wrap:anywhere]">
          {size(file.size)}, {file.file}
        </p>
      )}
      {tried && (
        <div className="grid gap-2 text-sm" aria-live="polite">
          <p className="font-semibold">
            {takes ? `Branch ${at + 1}${branch ? `, ${branch.title},` : ""} takes it` : "It would not be taken"}
          </p>
          <ul className="grid gap-1">
            {tried.trigger.map((verdict) => (
              <Asked key={verdict.asked} verdict={verdict} />
            ))}
            {(takes ? tried.branches.slice(at, at + 1) : tried.branches).map(({ title, verdict }) => (
              <Asked key={title} verdict={verdict} />
            ))}
          </ul>
          {branch && (
            <>
              <h3 className="pt-1 font-semibold">What would happen</h3>
              <ol className="grid gap-1">
                {branch.steps.map((step, number) => (
                  <li key={`${number} ${step.words}`} className="flex gap-2">
                    <span className="font-semibold">{number + 1}</span>
                    <span className="min-w-0 [overflow-wrap:anywhere]">
                      {step.words}
                      {step.condition && <span className="quiet">, only if {step.condition}</span>}
                    </span>
                  </li>
                ))}
                <li className="flex gap-2">
                  <span aria-hidden>→</span>
                  <span>the original {branch.original}</span>
                </li>
              </ol>
            </>
          )}
          <p className="quiet">Nothing was touched, written or sent.</p>
        </div>
      )}
      <ChooseFile
        place={place}
        isOpen={isChoosing}
        onClose={() => setChoosing(false)}
        onChoose={(chosen) => {
          onFile(chosen);
          setChoosing(false);
        }}
      />
    </section>
  );
}
