import type { Verdict } from "../api/client";

/** What was asked of a file, and what it answered; of a group, its parts. */
export function Asked({ verdict }: { verdict: Verdict }) {
  const parts = verdict.parts ?? [];
  if (parts.length > 0 && verdict.holds && verdict.asked === "all of") {
    return parts.map((part) => <Asked key={`${part.asked} ${part.found}`} verdict={part} />);
  }
  return (
    <li>
      <span className="flex gap-2">
        <span aria-hidden className={verdict.holds ? "text-success" : "text-error"}>
          {verdict.holds ? "✓" : "✕"}
        </span>
        <span className="min-w-0 [overflow-wrap:anywhere]">
          <span className="sr-only">{verdict.holds ? "holds: " : "does not hold: "}</span>
          {verdict.asked}
          {!verdict.holds && verdict.found && (
            <span className="quiet">
              , here <span className="file">{verdict.found}</span>
            </span>
          )}
        </span>
      </span>
      {parts.length > 0 && (
        <ul className="pl-6">
          {parts.map((part) => (
            <Asked key={`${part.asked} ${part.found}`} verdict={part} />
          ))}
        </ul>
      )}
    </li>
  );
}
