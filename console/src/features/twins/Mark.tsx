import { pebble } from "../../shared/ui/Crossing";
import type { Line } from "./queries";

export type MarkKind = "travels" | "goes" | "asks" | "stopped" | "without" | "folder";

const SIGNS: Record<MarkKind, string> = { travels: "→", goes: "✕", asks: "?", stopped: "!", without: "–", folder: "▫" };

/** A stone at the shore that would change. */
export function Mark({ kind, side }: { kind: MarkKind; side: "near" | "far" }) {
  const sign = kind === "travels" && side === "near" ? "←" : SIGNS[kind];
  return (
    <svg className="plan-mark" data-kind={kind} viewBox="0 0 62 36" aria-hidden>
      <path d={pebble(56, 32, side === "near" ? 3 : 5)} />
      <text x="31" y="18">
        {sign}
      </text>
    </svg>
  );
}

/** The stones of a line: on which shore, and which. */
export function marksOf(line: Line, isWithout: boolean, isStopped: boolean): { near?: MarkKind; far?: MarkKind } {
  const on = line.on === "near" ? "near" : "far";
  if (line.does === "ask") return { near: "asks", far: "asks" };
  if (line.does === "keep-both") return isWithout ? { far: "without" } : { near: "travels", far: "travels" };
  if (!line.on) return {};
  if (isWithout) return { [on]: "without" };
  if (isStopped && (line.does === "delete" || line.does === "replace")) return { [on]: "stopped" };
  if (line.does === "delete" || line.does === "remove-folder") return { [on]: "goes" };
  return { [on]: line.does === "make-folder" ? "folder" : "travels" };
}
