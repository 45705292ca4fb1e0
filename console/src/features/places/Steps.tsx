import type { TestedPlace } from "../../shared/api/client";

/** The steps of a test, each with what was found, or why it failed and what to do. */
export function Steps({ steps }: { steps: TestedPlace["steps"] }) {
  return (
    <ol className="grid gap-1" aria-live="polite">
      {steps.map((step) => (
        <li key={step.what} className="[overflow-wrap:anywhere]">
          <span className={step.fine ? "text-success" : "text-error"}>{step.fine ? "✓" : "✕"}</span> {step.what}{" "}
          <span className="quiet text-sm">{step.took_ms < 1 ? "under 1" : Math.round(step.took_ms)} ms</span>
          <span className="quiet block pl-5 text-sm">
            {step.said}
            {step.remedy && <>. {step.remedy}</>}
          </span>
        </li>
      ))}
    </ol>
  );
}
