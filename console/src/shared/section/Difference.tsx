import type { BookDiff } from "../api/client";

const signs = { same: " ", added: "+", removed: "-" } as const;
const colours = { same: "", added: "bg-success/20", removed: "bg-error/15" } as const;

/** Texts that differ, line by line. */
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
