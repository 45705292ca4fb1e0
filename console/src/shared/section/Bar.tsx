import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { ApiError, api, told } from "../api/client";
import { Dialog } from "../ui/Dialog";
import { Shown } from "../ui/states";
import { Difference } from "./Difference";
import { Words } from "./Words";
import type { Editor } from "./useEditor";
import { useMay } from "../api/me";

interface Props {
  editor: Editor;
  kind: string;
  onDone: (name: string) => void;
}

/** Differences that are said in the bar itself; of more, how many. */
const SAID = 3;

/** What is not in force yet, and how it gets there. */
export function Bar({ editor, kind, onDone }: Props) {
  const client = useQueryClient();
  const [isComparing, setComparing] = useState(false);
  const [note, setNote] = useState("");
  const { draft, text, isBehind, ground } = editor;
  const diff = useMutation({ mutationFn: () => told(api.POST("/api/v1/book/diff", { body: { files: [{ name: "this draft", text }], whole: false } })) });
  const put = useMutation({
    mutationFn: () => {
      const expected = ground.version === undefined ? { "If-None-Match": "*" } : { "If-Match": `"${ground.version}"` };
      return told(api.PUT("/api/v1/book/{kind}/{name}", { params: { path: { kind, name: draft.name }, header: expected }, body: { text, note: note || null } }));
    },
    onSuccess: async () => {
      editor.done();
      await client.invalidateQueries({ queryKey: ["live"] });
      onDone(draft.name);
    },
    // Somebody was quicker: what is in force now is asked for, and told above.
    onError: () => client.invalidateQueries({ queryKey: ["live"] }),
  });
  const mayArrange = useMay("manager");
  if (put.isSuccess || (!editor.isChanged && !put.error)) return null;
  const isNew = ground.version === undefined;
  const isReady = draft.mistakes.length === 0 && !isBehind && !editor.isStale;
  const unsafe = draft.differences.filter((one) => one.unprotects);
  const first = [...unsafe, ...draft.differences.filter((one) => !one.unprotects)].slice(0, SAID);
  const more = draft.differences.length - first.length;
  const isStale = put.error instanceof ApiError && put.error.problem.code === "changed-meanwhile";
  return (
    <section aria-label="Not in force yet" className="bar bg-base-100 border-warning sticky bottom-0 z-10 grid gap-2 border-t-2 px-4 py-3">
      {put.error && !isStale && (
        <p role="alert" className="text-error whitespace-pre-wrap">
          {put.error.message}
        </p>
      )}
      <div className="flex flex-wrap items-center gap-3">
        <div className="min-w-0 flex-1 [overflow-wrap:anywhere]">
          <p>
            <span className="font-semibold">{isNew ? `A new ${kind}, not in force yet.` : "Changes not in force."}</span>{" "}
            <span className="quiet">{draft.mistakes.length > 0 ? `${draft.mistakes.length} to be finished first.` : mayArrange ? "Kept in this browser until then." : "Only who may arrange puts them in force."}</span>
          </p>
          {!isNew && <Words differences={first} />}
          {more > 0 && <p className="quiet text-sm">and {more} more</p>}
          {!isNew && draft.mistakes.length === 0 && draft.differences.length === 0 && !isBehind && <p className="quiet text-sm">Only its comments or order differ.</p>}
        </div>
        <input className="input input-sm w-44" aria-label="Why, if you like" placeholder="Why, if you like" value={note} onChange={(event) => setNote(event.target.value)} />
        <button
          type="button"
          className="btn btn-sm"
          disabled={draft.mistakes.length > 0 || isBehind}
          onClick={() => {
            diff.mutate();
            setComparing(true);
          }}
        >
          Compare
        </button>
        <button type="button" className="btn btn-sm" onClick={editor.discard}>
          Discard
        </button>
        <button type="button" className="btn btn-primary btn-sm" disabled={!isReady || put.isPending || !mayArrange} onClick={() => put.mutate()}>
          Put in force
        </button>
      </div>
      <Dialog title="What would change" open={isComparing} onClose={() => setComparing(false)}>
        <div className="grid gap-3">
          <Words differences={draft.differences} />
          <Shown query={{ ...diff, refetch: () => diff.mutate() }}>{(shown) => <Difference diff={shown} />}</Shown>
          <p>
            <button type="button" className="btn btn-sm" onClick={() => setComparing(false)}>
              Close
            </button>
          </p>
        </div>
      </Dialog>
    </section>
  );
}
