import type { Schemas } from "../api/client";
import { Asked } from "../ui/Asked";
import { where } from "../ui/format";
import type { Foreseen } from "./queries";

type Step = Schemas["ForeseenStep"];

/** Where a file goes, in short: its branch, and below it the places. */
export function WayInShort({ way, isChanged = false }: { way: Foreseen; isChanged?: boolean }) {
  const targets = way.steps.filter((step) => !step.left_out && step.comes_to).map((step) => where(step.comes_to ?? ""));
  return (
    <>
      <span className={`block font-semibold ${isChanged ? "text-changed" : ""}`}>{way.branch ?? "not taken"}</span>
      <span className="quiet block text-sm [overflow-wrap:anywhere]">{way.held ? "waits for a person" : [...new Set(targets)].join(", ") || (way.branch ? way.end : "stays where it is")}</span>
    </>
  );
}

function Done({ step }: { step: Step }) {
  const more = [step.comes_to && <span className="file">→ {step.comes_to}</span>, !step.comes_to && step.makes && <span className="file">→ {step.makes}</span>, step.found, step.open].filter(Boolean);
  return (
    <li className="min-w-0 [overflow-wrap:anywhere]">
      <span className={step.left_out ? "quiet line-through" : ""}>{step.words}</span>
      {step.left_out && <span className="quiet block text-sm">left out: {step.left_out}</span>}
      {!step.left_out &&
        more.map((one, at) => (
          // oxlint-disable-next-line react/no-array-index-key -- they never move
          <span key={at} className="quiet block text-sm">
            {one}
          </span>
        ))}
    </li>
  );
}

/** A file's whole way: why it is taken, every step with its names, and what becomes of it. */
export function Way({ way }: { way: Foreseen }) {
  const { explained } = way;
  const at = explained.branches.findIndex(({ verdict }) => verdict.holds);
  return (
    <div className="grid gap-2">
      <ul className="grid gap-1 text-sm">
        {explained.trigger.map((verdict) => (
          <Asked key={`${verdict.asked} ${verdict.found}`} verdict={verdict} />
        ))}
        {(explained.taken ? explained.branches.slice(at, at + 1) : explained.branches).map(({ title, verdict }) => (
          <Asked key={title} verdict={verdict} />
        ))}
      </ul>
      {way.branch !== null && way.branch !== undefined && (
        <ol className="list-decimal pl-5">
          {way.steps.map((step) => (
            <Done key={`${step.branch} ${step.step} ${step.file}`} step={step} />
          ))}
        </ol>
      )}
      <p>{way.end.charAt(0).toUpperCase() + way.end.slice(1)}.</p>
    </div>
  );
}
