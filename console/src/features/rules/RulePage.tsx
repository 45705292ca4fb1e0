import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";

import { type Rule, type Status, api, told } from "../../shared/api/client";
import { statusQuery } from "../../shared/api/status";
import { Crumbs } from "../../shared/ui/Crumbs";
import { Crossing, type Lane, type Stone } from "../../shared/ui/Crossing";
import { Due, Time, size, splitPath } from "../../shared/ui/format";
import { Empty, Failure, Shown, StateBadge } from "../../shared/ui/states";
import { Changes } from "../../shared/section/Changes";
import { Tabs } from "../../shared/ui/Tabs";
import { WarningLine } from "../../shared/ui/WarningLine";
import { Explain } from "../explain/Explain";
import { RunNow } from "./RunNow";
import { RuleEditor } from "./build/RuleEditor";
import { ruleQuery, ruleRunsQuery } from "./queries";
import { May } from "../../shared/ui/May";
import { useMay } from "../../shared/api/me";

/** What a step's stone does not say by its name. */
function detail(step: Rule["branches"][number]["steps"][number]): string {
  const words = [step.rest];
  if (step.condition) words.push(`if ${step.condition}`);
  if (step.on_failure.length) words.push(`else ${step.on_failure.join(", ")}`);
  return words.filter(Boolean).join("; ");
}

function lanes(rule: Rule, status: Status | undefined): Lane[] {
  return rule.branches.map((branch, at) => {
    const moving = status?.moving.filter((one) => one.rule === rule.name && one.branch === at) ?? [];
    const target = branch.steps.findLast((step) => step.place);
    const isHold = branch.steps.some((step) => step.kind === "hold");
    const stones: Stone[] = branch.steps.map((step, number) => {
      const here = moving.filter((one) => one.step === number);
      const first = here[0];
      return {
        key: `${number}`,
        label: step.kind,
        state: first ? "working" : step.kind === "hold" && branch.held ? "failed" : branch.done ? "done" : "rest",
        detail: first
          ? `${splitPath(first.file).name}${here.length > 1 ? ` and ${here.length - 1} more` : ""}`
          : detail(step),
      };
    });
    if (branch.original !== "stays") {
      const working = moving.some((one) => one.steps.some((step) => step.at === one.step && step.kind === "original"));
      stones.push({ key: "original", label: "original", detail: branch.original, state: working ? "working" : branch.done ? "done" : "rest" });
    }
    return {
      key: `${at}`,
      title: (
        <>
          <p className="font-semibold">
            {at + 1} {branch.title}
          </p>
          <p className="quiet text-[12.5px]">{branch.condition ?? (rule.branches.length > 1 ? "anything else" : rule.place ? "every file" : "each time")}</p>
        </>
      ),
      near:
        at === 0 && !rule.place ? (
          <span className="text-sm">{rule.starts}</span>
        ) : at === 0 ? (
          <>
            <Link to={`/places/${rule.place}${rule.folder ? `?folder=${encodeURIComponent(rule.folder)}` : ""}`} className="plain font-semibold">
              {rule.place}
            </Link>
            <span className="file block text-sm">{rule.folder || "the root"}</span>
            <span className="quiet block text-sm">
              {rule.names.join(", ") || "every name"}
              {rule.settle && ` · complete ${rule.settle === "at once" ? "when closed" : `for ${rule.settle}`}`}
            </span>
            {rule.next && (
              <span className="quiet block text-sm">
                next <Due at={rule.next} />
              </span>
            )}
          </>
        ) : (
          ""
        ),
      far: (
        <>
          <span className="block font-semibold">{isHold ? "a person" : (target?.place ?? rule.place)}</span>
          {target?.folder && <span className="file block text-xs">{target.folder}</span>}
          <span className="quiet block text-sm">
            {branch.done} today{branch.held > 0 && `, ${branch.held} held`}
            {branch.open > 0 && `, ${branch.open} on the way`}
          </span>
        </>
      ),
      stones,
    };
  });
}

const TABS = ["build", "text", "rehearse", "explain", "runs", "changes"] as const;
const TAB_WORDS = { build: "Build", text: "Text", rehearse: "Rehearse", explain: "Why not?", runs: "Runs", changes: "Changes" };

function Runs({ rule }: { rule: Rule }) {
  return (
    <Shown query={useQuery(ruleRunsQuery(rule.name))}>
      {({ runs }) =>
        runs.length === 0 ? (
          <Empty title="It never ran">Run it now, or wait for what starts it.</Empty>
        ) : (
          <>
            <ul className="panel">
              {runs.map((run) => (
                <li key={run.id} className="flex flex-wrap items-center gap-x-4 px-4 py-2">
                  <StateBadge state={run.state} />
                  <Link to={`/runs/${run.id}`} className="file plain flex-1 [overflow-wrap:anywhere]">
                    {splitPath(run.file).name}
                  </Link>
                  <span className="quiet text-sm">{size(run.size)}</span>
                  <span className="quiet text-sm">
                    <Time at={run.started} />
                  </span>
                </li>
              ))}
            </ul>
            <p className="pt-2 text-sm">
              <Link to={`/runs?rule=${rule.name}`} className="link">
                All its runs
              </Link>
            </p>
          </>
        )
      }
    </Shown>
  );
}

/** How another system starts it. */
function SignalHelp({ help }: { help: NonNullable<Rule["signal"]> }) {
  const [copied, setCopied] = useState(false);
  return (
    <details className="panel mb-3 px-4 py-2">
      <summary className="cursor-pointer">
        Another system starts it at <span className="file">{help.address}</span>
      </summary>
      <div>
        <p className="quiet pt-2 text-sm">
          These commands make the call. They ask for the secret that both sides know; a system makes the same call by itself.
        </p>
        <pre className="file overflow-x-auto py-2 text-sm">{help.commands}</pre>
        <button
          type="button"
          className="btn btn-sm mb-2"
          onClick={() => void navigator.clipboard.writeText(help.commands).then(() => setCopied(true))}
        >
          {copied ? "Copied" : "Copy them"}
        </button>
      </div>
    </details>
  );
}

/** When its schedule fires next. */
function Firings({ rule }: { rule: Rule }) {
  return (
    <details className="panel mb-3 px-4 py-2" open={rule.firings.length <= 3}>
      <summary className="cursor-pointer">The next {rule.firings.length} firings{!rule.on && ", once it is on"}</summary>
      <ol className="columns-2 pt-2 text-sm sm:columns-3">
        {rule.firings.map((at) => (
          <li key={at}>{firing.format(new Date(at))}</li>
        ))}
      </ol>
    </details>
  );
}

const firing = new Intl.DateTimeFormat(undefined, { weekday: "short", day: "numeric", month: "short", hour: "2-digit", minute: "2-digit", second: "2-digit" });

function One({ rule }: { rule: Rule }) {
  const client = useQueryClient();
  const status = useQuery(statusQuery);
  const [search, setSearch] = useSearchParams();
  const [running, setRunning] = useState(false);
  const mayArrange = useMay("manager");
  const tab = TABS.find((one) => one === search.get("tab")) ?? "build";
  const change = useMutation({
    mutationFn: (on: boolean) => told(api.POST("/api/v1/rules/{name}/switch", { params: { path: { name: rule.name } }, body: { on } })),
    onSettled: () => client.invalidateQueries({ queryKey: ["live"] }),
  });
  return (
    <div className="grid grid-cols-1 gap-4">
      <div className="flex flex-wrap items-start justify-between gap-3">
        <div className="min-w-0 flex-1">
          <Crumbs to="/rules" above="Rules" here={rule.name} />
          <h1 className="text-2xl font-bold tracking-tight">{rule.title}</h1>
          {tab !== "build" && tab !== "text" && tab !== "rehearse" && <p className="max-w-[52rem] pt-1 [overflow-wrap:anywhere]">{rule.sentence}</p>}
          {rule.why && <p className="quiet pt-1 text-sm">Why: {rule.why}</p>}
        </div>
        <div className="flex items-center gap-3">
          <label className="flex items-center gap-2">
            <input
              type="checkbox"
              className="toggle toggle-primary"
              checked={rule.on}
              disabled={change.isPending || !mayArrange}
              onChange={(event) => change.mutate(event.target.checked)}
            />
            {rule.on ? "on" : "off"}
          </label>
          <May as="operator">
            <button type="button" className="btn btn-sm btn-primary" onClick={() => setRunning(true)}>
              Run now…
            </button>
          </May>
        </div>
      </div>
      {change.error && <Failure error={change.error} />}
      {rule.troubles.length > 0 && (
        <output className="panel block px-4 pb-2">
          {rule.troubles.map((trouble) => (
            <WarningLine key={trouble.what} warning={trouble} />
          ))}
        </output>
      )}
      {tab !== "build" && tab !== "rehearse" && <Crossing label={`What ${rule.title} does`} lanes={lanes(rule, status.data)} />}
      <Tabs label="About this rule" tabs={TABS} words={TAB_WORDS} tab={tab} onTab={(to) => setSearch({ tab: to }, { replace: true })}>
        {tab === "text" && rule.signal && <SignalHelp help={rule.signal} />}
        {tab === "text" && rule.firings.length > 0 && <Firings rule={rule} />}
        {(tab === "build" || tab === "text" || tab === "rehearse") && <RuleEditor key={rule.name} name={rule.name} text={rule.text} rule={rule} tab={tab} />}
        {tab === "explain" && <Explain rule={rule.name} begin={rule.place ? `${rule.place}:/${rule.folder ? `${rule.folder}/` : ""}` : ""} />}
        {tab === "runs" && <Runs rule={rule} />}
        {tab === "changes" && <Changes kind="rule" name={rule.name} />}
      </Tabs>
      <RunNow rule={rule} open={running} onClose={() => setRunning(false)} />
    </div>
  );
}

export function RulePage() {
  const { name = "" } = useParams();
  const list = (
    <>
      <Link to="/rules" className="link">
        See all rules
      </Link>
      . One that was removed can be had back in{" "}
      <Link to="/settings" className="link">
        Settings
      </Link>
      .
    </>
  );
  return (
    <Shown query={useQuery(ruleQuery(name))} list={list}>
      {(rule) => <One rule={rule} />}
    </Shown>
  );
}
