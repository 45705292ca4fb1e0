import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { size, splitPath } from "../../../shared/ui/format";
import type { Editor } from "../../../shared/section/useEditor";
import { Asked } from "../../../shared/ui/Asked";
import { Way } from "../../../shared/rehearse/Way";
import { rehearsalQuery } from "../../../shared/rehearse/queries";
import { ChooseFile } from "../../../shared/ui/ChooseFile";

/** What the draft says of the file while it is not whole yet, or while the file cannot be looked at. */
function SoFar({ editor }: { editor: Editor }) {
  const { tried } = editor.draft;
  if (!tried) return null;
  const at = tried.branches.findIndex(({ verdict }) => verdict.holds);
  const branch = tried.taken ? editor.draft.branches[at] : undefined;
  return (
    <>
      <p className="font-semibold">{branch ? `Branch ${at + 1}, ${branch.title}, takes it` : "It would not be taken"}</p>
      <ul className="grid gap-1">
        {tried.trigger.map((verdict) => (
          <Asked key={verdict.asked} verdict={verdict} />
        ))}
        {(branch ? tried.branches.slice(at, at + 1) : tried.branches).map(({ title, verdict }) => (
          <Asked key={title} verdict={verdict} />
        ))}
      </ul>
    </>
  );
}

/** What a draft would do with one file; nothing is touched. */
export function TryIt({ editor, place }: { editor: Editor; place: string | undefined }) {
  const [isChoosing, setChoosing] = useState(false);
  const { draft, sample: file } = editor;
  const isWhole = draft.mistakes.length === 0 && !editor.isBehind;
  const asked = { draft: { text: draft.text }, over: file?.arrival === undefined ? { file: file?.file ?? "" } : { arrival: file.arrival }, compare: draft.version !== undefined && draft.version !== null };
  const rehearsal = useQuery(rehearsalQuery(asked, isWhole && file !== undefined));
  const played = draft.mistakes.length === 0 ? rehearsal.data?.shown[0] : undefined;
  const way = played?.file === file?.file ? played?.after : undefined;
  const branch = way?.branch;
  const at = way ? way.explained.branches.findIndex(({ verdict }) => verdict.holds) : -1;
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
          {file.arrival !== undefined && ", as it came"}
        </p>
      )}
      {file && (
        <div className="grid gap-2 text-sm" aria-live="polite">
          {way ? (
            <>
              <p className="font-semibold">{branch ? `Branch ${at + 1}, ${branch}, takes it` : "It would not be taken"}</p>
              {played?.kind && played.why && <p className="text-changed">Otherwise than in force: {played.why}</p>}
              <Way way={way} />
            </>
          ) : (
            <>
              <SoFar editor={editor} />
              {isWhole && rehearsal.error && <p className="quiet">What lies at the targets is not known: {rehearsal.error.message}</p>}
            </>
          )}
          <p className="quiet">Nothing was touched, written or sent.</p>
        </div>
      )}
      <ChooseFile
        place={place}
        isOpen={isChoosing}
        withCame
        onClose={() => setChoosing(false)}
        onChoose={(chosen) => {
          editor.setSample(chosen);
          setChoosing(false);
        }}
      />
    </section>
  );
}
