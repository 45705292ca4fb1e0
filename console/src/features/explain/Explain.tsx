import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import type { Schemas } from "../../shared/api/client";
import { Asked } from "../../shared/ui/Asked";
import { Time, size } from "../../shared/ui/format";
import { RuleLink } from "../../shared/ui/RuleLink";
import { Failure, Shown } from "../../shared/ui/states";
import { ChooseFile } from "../../shared/ui/ChooseFile";
import { Way } from "../../shared/rehearse/Way";
import { rehearsalQuery } from "../../shared/rehearse/queries";
import { explainQuery } from "./queries";

type Explained = Schemas["Explained"];
type OneRule = Schemas["ExplainedRule"];

/** What is known of the file itself. */
function Known({ explained }: { explained: Explained }) {
  if (explained.away) return <p role="alert">{explained.away}. Only its name was compared.</p>;
  if (!explained.found) return <p>The file is not there. Only its name was compared.</p>;
  return (
    <p className="quiet">
      {size(explained.size ?? 0)}, changed <Time at={explained.modified} />
      {explained.seen ? (
        <>
          , seen <Time at={explained.seen} />
        </>
      ) : (
        ", not seen by a watcher in this state"
      )}
      .
    </p>
  );
}

/** What a rule that takes the file would do with it. */
function Would({ rule, file }: { rule: string; file: string }) {
  const query = useQuery(rehearsalQuery({ rule, over: { file }, only: "all", from: 0, compare: false }));
  if (query.error) return <Failure error={query.error} />;
  const way = query.data?.shown[0]?.after;
  return way ? <Way way={way} /> : null;
}

function Rule({ one, file, isThere }: { one: OneRule; file: string; isThere: boolean }) {
  return (
    <section className="panel px-4 py-3" aria-label={one.title}>
      <div className="grid gap-2">
        <h3 className="font-semibold">
          <RuleLink rule={one.rule} title={one.title} />: {one.taken ? "takes it" : "leaves it alone"}
        </h3>
        {one.notes && one.notes.length > 0 && (
          <ul className="grid gap-1">
            {one.notes.map((note) => (
              <li key={note}>! {note}</li>
            ))}
          </ul>
        )}
        {one.taken && isThere ? (
          <Would rule={one.rule} file={file} />
        ) : (
          <ul className="grid gap-1 text-sm">
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
        )}
      </div>
    </section>
  );
}

/** What rules, or one, say of a file: those that take it first. */
function Answer({ explained, isOnly }: { explained: Explained; isOnly: boolean }) {
  const taking = explained.rules.filter((one) => one.taken && (isOnly || !one.handed));
  const handed = isOnly ? [] : explained.rules.filter((one) => one.taken && one.handed);
  const others = explained.rules.filter((one) => !one.taken);
  return (
    <div className="grid gap-3">
      <Known explained={explained} />
      {!isOnly && taking.length === 0 && <p className="text-lg font-semibold">No rule takes this file.</p>}
      {taking.map((one) => (
        <Rule key={one.rule} one={one} file={explained.file} isThere={explained.found} />
      ))}
      {handed.length > 0 && (
        <p>
          Rules that look in no folder take it if it is handed to them:{" "}
          {handed.map((one, at) => (
            <span key={one.rule}>
              {at > 0 && ", "}
              <RuleLink rule={one.rule} title={one.title} />
            </span>
          ))}
          .
        </p>
      )}
      {isOnly
        ? others.map((one) => <Rule key={one.rule} one={one} file={explained.file} isThere={explained.found} />)
        : others.length > 0 && (
            <details>
              <summary className="link w-fit cursor-pointer">{others.length === 1 ? "One rule leaves" : `${others.length} rules leave`} it alone, and why</summary>
              <div className="grid gap-3 pt-3">
                {others.map((one) => (
                  <Rule key={one.rule} one={one} file={explained.file} isThere={explained.found} />
                ))}
              </div>
            </details>
          )}
    </div>
  );
}

/** What happens to a file, or why nothing did: by one rule, or by all. */
export function Explain({ rule, begin }: { rule?: string; begin: string }) {
  const isFile = !begin.endsWith("/") && begin.includes(":/");
  const [draft, setDraft] = useState(begin);
  const [file, setFile] = useState(isFile ? begin : "");
  const [isChoosing, setChoosing] = useState(false);
  const query = useQuery(explainQuery(rule, file));
  return (
    <div className="grid max-w-3xl gap-4">
      <form
        className="flex flex-wrap gap-2"
        onSubmit={(event) => {
          event.preventDefault();
          setFile(draft.trim());
        }}
      >
        <input className="input file min-w-60 flex-1" aria-label="A file, as PLACE:/PATH" placeholder="PLACE:/folder/file" value={draft} onChange={(event) => setDraft(event.target.value)} />
        <button type="button" className="btn" onClick={() => setChoosing(true)}>
          Choose…
        </button>
        <button type="submit" className="btn btn-primary" disabled={!draft.includes(":/") || draft.trim().endsWith("/")}>
          Explain
        </button>
      </form>
      {file && <Shown query={query}>{(explained) => <Answer key={explained.file} explained={explained} isOnly={rule !== undefined} />}</Shown>}
      <ChooseFile
        place={begin.split(":/")[0] || undefined}
        isOpen={isChoosing}
        onClose={() => setChoosing(false)}
        onChoose={(chosen) => {
          setDraft(chosen.file);
          setFile(chosen.file);
          setChoosing(false);
        }}
      />
    </div>
  );
}
