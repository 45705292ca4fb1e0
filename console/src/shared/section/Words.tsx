import type { Schemas } from "../api/client";

/** Differences in words; what leaves files unprotected stands out. */
export function Words({ differences }: { differences: Schemas["Difference"][] }) {
  return (
    <ul className="grid gap-1 text-sm">
      {differences.map((one) => (
        <li key={one.words} className={`[overflow-wrap:anywhere] ${one.unprotects ? "bg-warning text-warning-content rounded px-2 py-1 font-semibold" : ""}`}>
          {one.unprotects && <span aria-hidden>⚠ </span>}
          {one.unprotects && <span className="sr-only">Less protected: </span>}
          {one.words}
        </li>
      ))}
    </ul>
  );
}
