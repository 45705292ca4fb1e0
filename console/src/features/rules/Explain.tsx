import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import type { Rule, Verdict } from "../../shared/api/client";
import { size } from "../../shared/ui/format";
import { Shown } from "../../shared/ui/states";
import { explainQuery } from "./queries";

function Asked({ verdict }: { verdict: Verdict }) {
  return (
    <li>
      <span className={verdict.holds ? "" : "text-error"}>
        <span aria-hidden>{verdict.holds ? "✓" : "✕"}</span> <span className="sr-only">{verdict.holds ? "holds:" : "does not hold:"}</span> {verdict.asked}
        {!verdict.holds && verdict.found && (
          <>
            {" "}
            — it is <span className="file">{verdict.found}</span>
          </>
        )}
      </span>
      {verdict.parts && verdict.parts.length > 0 && (
        <ul className="pl-5">
          {verdict.parts.map((part) => (
            <Asked key={part.asked} verdict={part} />
          ))}
        </ul>
      )}
    </li>
  );
}

/** Would this rule take a file, and why? */
export function Explain({ rule }: { rule: Rule }) {
  const start = `${rule.place}:/${rule.folder ? `${rule.folder}/` : ""}`;
  const [draft, setDraft] = useState(start);
  const [file, setFile] = useState("");
  const query = useQuery(explainQuery(rule.name, file));
  return (
    <div className="grid max-w-3xl gap-4">
      <form
        className="join"
        onSubmit={(event) => {
          event.preventDefault();
          setFile(draft.trim());
        }}
      >
        <input className="input join-item file w-full" aria-label="A file, as PLACE:/PATH" value={draft} onChange={(event) => setDraft(event.target.value)} />
        <button type="submit" className="btn join-item" disabled={draft.trim() === start}>
          Explain
        </button>
      </form>
      {file && (
        <Shown query={query}>
          {(explained) => (
            <>
              {explained.rules.map((one) => (
                <section key={one.rule} className="panel px-4 py-3">
                  <p>
                    {explained.found ? `It has ${size(explained.size ?? 0)}. ` : "The file is not there; only names were compared. "}
                    <strong className="font-semibold">{one.outcome}</strong>
                    {one.note && <>, but {one.note}</>}
                  </p>
                  <ul className="pt-2 leading-relaxed">
                    {one.trigger.map((verdict) => (
                      <Asked key={verdict.asked} verdict={verdict} />
                    ))}
                    {one.branches.map((branch) => (
                      <li key={branch.title}>
                        branch “{branch.title}”
                        <ul className="pl-5">
                          <Asked verdict={branch.verdict} />
                        </ul>
                      </li>
                    ))}
                  </ul>
                </section>
              ))}
            </>
          )}
        </Shown>
      )}
    </div>
  );
}
