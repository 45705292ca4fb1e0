import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";

import { type BookDiff, api } from "../api/client";

interface Line {
  key: string;
  sign: " " | "+" | "-";
  text: string;
}

/** Lines of two texts side by side in time: the longest common run of lines stays. */
function difference(old: string, now: string): Line[] {
  const [a, b] = [old.split("\n"), now.split("\n")];
  const common: number[][] = Array.from({ length: a.length + 1 }, () => Array.from({ length: b.length + 1 }, () => 0));
  const at = (i: number, j: number): number => common[i]?.[j] ?? 0;
  for (let i = a.length - 1; i >= 0; i -= 1) {
    const row = common[i];
    if (!row) continue;
    for (let j = b.length - 1; j >= 0; j -= 1) row[j] = a[i] === b[j] ? at(i + 1, j + 1) + 1 : Math.max(at(i + 1, j), at(i, j + 1));
  }
  const lines: Line[] = [];
  let [i, j] = [0, 0];
  const push = (sign: Line["sign"], text: string) => lines.push({ key: `${lines.length}`, sign, text });
  while (i < a.length || j < b.length) {
    if (i < a.length && j < b.length && a[i] === b[j]) {
      push(" ", a[i] ?? "");
      i += 1;
      j += 1;
    } else if (j >= b.length || (i < a.length && at(i + 1, j) >= at(i, j + 1))) {
      push("-", a[i] ?? "");
      i += 1;
    } else {
      push("+", b[j] ?? "");
      j += 1;
    }
  }
  return lines;
}

function Difference({ diff }: { diff: BookDiff }) {
  if (diff.changes.length === 0) return <p className="quiet">Nothing differs from what is in force.</p>;
  return (
    <>
      {diff.changes.map((change) => (
        <section key={`${change.kind}.${change.name}`} className="panel p-3" aria-label={`${change.kind} ${change.name} ${change.change}`}>
          <p className="pb-2 font-semibold">
            {change.kind} {change.name}: {change.change}
          </p>
          <pre className="file overflow-x-auto !border-0">
            {difference(change.old ?? "", change.new ?? "").map((line) => (
              <span
                key={line.key}
                className={`block ${line.sign === "+" ? "bg-success/20" : ""} ${line.sign === "-" ? "bg-error/15" : ""}`}
              >{`${line.sign} ${line.text}`}</span>
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
  const check = useMutation({ mutationFn: () => api.post<BookDiff>("/book/diff", proposal) });
  const apply = useMutation({
    mutationFn: () => api.post<BookDiff>("/book/apply", proposal),
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
