import { useState } from "react";

import { Dialog } from "../../shared/ui/Dialog";
import { capital } from "../../shared/ui/format";
import type { Comparison, Stop, Twin } from "./queries";

/** So many are deleted or replaced. */
export const toll = (stop: Stop): number => (stop.deleted ?? 0) + (stop.replaced ?? 0);

/** Why a pass is not begun, what can be done about it, and the two ways on. */
export function Brake({ twin, found, stop, onLeaveOut, onMeant, onAgain }: {
  twin: Twin;
  found: Comparison;
  stop: Stop;
  onLeaveOut: () => void;
  onMeant: () => void;
  onAgain: () => void;
}) {
  const [asking, setAsking] = useState(false);
  const [typed, setTyped] = useState("");
  const isToll = stop.kind === "too-much";
  const word = isToll ? `${toll(stop)}` : "meant";
  const hit = found.lines.filter((line) => line.on === stop.side && (line.does === "delete" || line.does === "replace"));
  const tops = new Set(hit.map((line) => line.near.split("/")[0] ?? ""));
  const where = hit.length > 0 && tops.size === 1 && hit[0]?.near.includes("/") ? [...tops][0] : undefined;
  const meant = isToll ? `${stop.replaced ? "Do" : "Delete"} all ${toll(stop)} ${stop.side === "far" ? "there" : "here"}…` : "It is meant…";
  return (
    <section role="alert" className="flex flex-wrap items-start gap-x-6 gap-y-3 border-l-4 border-error pl-4">
      <div className="min-w-64 flex-1">
        <p className="font-semibold">This pass is stopped before its first action: {stop.words}.</p>
        <p>
          {where && (
            <>
              All of them lie in <span className="file">{where}</span>.{" "}
            </>
          )}
          Was something moved, or is a disk not there? Put it back and{" "}
          <button type="button" className="link" onClick={onAgain}>
            compare again
          </button>
          . {isToll ? `What is deleted or replaced is kept for ${twin.keep_days} days.` : "If it is meant, nothing is deleted or replaced at first."}
        </p>
      </div>
      <div className="grid gap-2">
        {isToll && (
          <button type="button" className="btn btn-primary" onClick={onLeaveOut}>
            Leave these out, do the rest
          </button>
        )}
        <button type="button" className="btn btn-outline btn-error" onClick={() => setAsking(true)}>
          {meant}
        </button>
      </div>
      <Dialog title={capital(meant.replace("…", "?"))} open={asking} onClose={() => setAsking(false)}>
        <form
          className="grid gap-3"
          onSubmit={(event) => {
            event.preventDefault();
            setAsking(false);
            onMeant();
          }}
        >
          <p>
            {capital(stop.words ?? "")}. Both sides are looked at once more; if it is more by then, it is stopped again. What a side loses is kept there for{" "}
            {twin.keep_days} days.
          </p>
          <label className="grid gap-1">
            <span>
              Type <strong>{word}</strong> to go on
            </span>
            <input className="input w-full" value={typed} onChange={(event) => setTyped(event.target.value)} />
          </label>
          <div className="flex justify-end gap-2">
            <button type="button" className="btn" onClick={() => setAsking(false)}>
              Leave it stopped
            </button>
            <button type="submit" className="btn btn-error" disabled={typed.trim() !== word}>
              {meant.replace("…", "")}
            </button>
          </div>
        </form>
      </Dialog>
    </section>
  );
}
