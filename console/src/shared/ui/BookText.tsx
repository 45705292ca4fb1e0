import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";

import { type BookDiff, api, told } from "../api/client";

const signs = { same: " ", added: "+", removed: "-" } as const;
const colours = { same: "", added: "bg-success/20", removed: "bg-error/15" } as const;

export function Difference({ diff }: { diff: BookDiff }) {
  if (diff.changes.length === 0) return <p className="quiet">Nothing differs from what is in force.</p>;
  return (
    <>
      {diff.changes.map((change) => (
        <section key={`${change.kind}.${change.name}`} className="panel p-3" aria-label={`${change.kind} ${change.name} ${change.change}`}>
          <p className="pb-2 font-semibold">
            {change.kind} {change.name}: {change.change}
          </p>
          <pre className="file overflow-x-auto !border-0">
            {change.lines.map((line, at) => (
              // oxlint-disable-next-line react/no-array-index-key -- lines of one answer never move
              <span key={at} className={`block ${colours[line.change]}`}>{`${signs[line.change]} ${line.text}`}</span>
            ))}
          </pre>
        </section>
      ))}
    </>
  );
}

/** A section of the book as text: checked and compared before it is put in force. */
export function BookText({ kind, name, text, isNew = false }: { kind: "rule" | "partner"; name: string; text: string; isNew?: boolean }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const [draft, setDraft] = useState(text);
  const proposal = { files: [{ name: "this text", text: draft }], whole: false };
  const check = useMutation({ mutationFn: () => told(api.POST("/api/v1/book/diff", { body: proposal })) });
  const apply = useMutation({
    mutationFn: () => told(api.POST("/api/v1/book/apply", { body: proposal })),
    onSuccess: (diff) => {
      check.reset();
      const made = diff.changes.find((change) => change.kind === kind);
      if (made && made.name !== name) void navigate(`/${kind}s/${made.name}`);
    },
    onSettled: () => client.invalidateQueries({ queryKey: ["live"] }),
  });
  const error = apply.error ?? check.error;
  const changed = draft !== text;
  return (
    <div className="grid gap-3">
      <label className="grid gap-1">
        <span className="sr-only">The {kind} as text</span>
        <textarea
          className="textarea file w-full leading-snug"
          spellCheck={false}
          rows={Math.min(28, Math.max(10, draft.split("\n").length + 1))}
          value={draft}
          onChange={(event) => {
            setDraft(event.target.value);
            check.reset();
            apply.reset();
          }}
        />
      </label>
      {error && (
        <p role="alert" className="text-error whitespace-pre-wrap">
          {error.message}
        </p>
      )}
      {check.data && <Difference diff={check.data} />}
      {apply.isSuccess && !changed && (
        <output className="text-success">✓ In force.</output>
      )}
      <div className="flex gap-2">
        <button type="button" className="btn btn-sm" disabled={!(changed || isNew) || check.isPending} onClick={() => check.mutate()}>
          Check and compare
        </button>
        <button
          type="button"
          className="btn btn-sm btn-primary"
          disabled={!check.data || check.data.changes.length === 0 || apply.isPending}
          onClick={() => apply.mutate()}
        >
          Put in force
        </button>
        {changed && (
          <button
            type="button"
            className="btn btn-ghost btn-sm"
            onClick={() => {
              setDraft(text);
              check.reset();
              apply.reset();
            }}
          >
            Discard
          </button>
        )}
      </div>
    </div>
  );
}
