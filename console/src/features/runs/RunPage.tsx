import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useParams } from "react-router";

import { Crumbs } from "../../shared/ui/Crumbs";
import { RuleLink } from "../../shared/ui/RuleLink";
import { type Item, type Moving, type Run, api, told } from "../../shared/api/client";
import { statusQuery } from "../../shared/api/status";
import { Attempts } from "../../shared/ui/Attempts";
import { Crossing, type Lane, type StoneState } from "../../shared/ui/Crossing";
import { HoldCard } from "../../shared/ui/HoldCard";
import { Due, Time, plural, size, splitPath, where } from "../../shared/ui/format";
import { Shown, StateBadge } from "../../shared/ui/states";
import { runQuery } from "./queries";
import { useMay } from "../../shared/api/me";

const LANES = 12;

const STONES: Record<string, StoneState> = { done: "done", skipped: "skipped", failed: "failed", held: "failed", working: "working" };

/** What started a run, in words. */
const CAUSES: Record<string, string> = {
  arrival: "an arrival",
  hand: "hand",
  schedule: "the clock",
  chain: "another rule",
  signal: "a signal",
  mail: "a letter",
};

/** What is known of a run besides: what a signal said, who wrote the letter. */
function About({ about }: { about: Run["about"] }) {
  const known = Object.entries(about);
  if (known.length === 0) return null;
  return (
    <dl className="flex flex-wrap gap-x-6 gap-y-1 pt-2 text-sm">
      {known.map(([word, text]) => (
        <div key={word} className="flex gap-2">
          <dt className="quiet">{word}</dt>
          <dd className="[overflow-wrap:anywhere]">{text}</dd>
        </div>
      ))}
    </dl>
  );
}

function lane(item: Item, moving: Moving | undefined): Lane {
  const last = item.attempts.findLast((attempt) => attempt.target && attempt.outcome === "done" && attempt.kind !== "original");
  return {
    key: String(item.id),
    near: (
      <>
        <span className="file block">{splitPath(item.file).name}</span>
        <span className="quiet text-sm">
          {size(item.size)} · {where(item.file)}
        </span>
      </>
    ),
    far: (
      <span className="text-sm">
        {item.state === "done" && last?.target ? (
          <>
            ✓ arrived, checksum on record <span className="file block text-xs">{last.target}</span>
          </>
        ) : (
          <StateBadge state={item.state} />
        )}
      </span>
    ),
    stones: item.steps.map((step) => {
      const busy = moving && moving.step === step.at ? moving : undefined;
      return {
        key: `${step.at}`,
        label: step.on_failure ? `else ${step.kind}` : step.kind,
        state: busy ? "working" : (STONES[step.state] ?? "waiting"),
        detail: busy && busy.total > 0 ? `${Math.min(100, Math.round((busy.done / busy.total) * 100))} %` : undefined,
      };
    }),
  };
}

function counts(run: Run): string {
  const words = ["done", "working", "held", "waiting", "joining", "queued", "skipped"].map((state) => {
    const count = run.items.filter((item) => item.state === state && item.kind !== "find").length;
    return count ? `${count} ${state}` : "";
  });
  return words.filter(Boolean).join(", ");
}

function Detail({ item }: { item: Item }) {
  return (
    <section className="panel" aria-label={`What happened to ${splitPath(item.file).name}`}>
      <p className="flex flex-wrap items-center gap-3 px-4 py-2">
        <span className="file font-semibold [overflow-wrap:anywhere]">{splitPath(item.file).name}</span>
        <StateBadge state={item.state} />
        {item.branch_title && <span className="quiet">branch “{item.branch_title}”</span>}
        {item.due && item.state === "waiting" && (
          <span className="quiet">
            next attempt <Due at={item.due} />
          </span>
        )}
      </p>
      {item.hold ? <HoldCard hold={item.hold} /> : item.why && <p className="px-4 py-2">{item.why}</p>}
      <Attempts attempts={item.attempts} caption={`Attempts for ${item.file}`} />
    </section>
  );
}

/** Stop what goes on; try again at once what waits or is held. */
function Actions({ run }: { run: Run }) {
  const client = useQueryClient();
  const act = useMutation({
    mutationFn: (verb: "stop" | "retry") => verb === "stop"
        ? told<unknown>(api.POST("/api/v1/runs/{id}/stop", { params: { path: { id: run.id } } }))
        : told<unknown>(api.POST("/api/v1/runs/{id}/retry", { params: { path: { id: run.id } }, body: {} })),
    onSettled: () => client.invalidateQueries({ queryKey: ["live"] }),
  });
  const mayAct = useMay("operator");
  const stoppable = run.items.some((item) => ["queued", "working", "waiting", "joining"].includes(item.state));
  const waiting = run.items.filter((item) => item.state === "waiting").length;
  const resting = waiting + run.items.filter((item) => item.state === "held").length;
  return (
    <div className="flex flex-wrap items-center gap-2">
      {mayAct && stoppable && (
        <button type="button" className="btn btn-sm" disabled={act.isPending} onClick={() => act.mutate("stop")}>
          Stop this run
        </button>
      )}
      {/* One held file has its own button below. */}
      {mayAct && (waiting > 0 || resting > 1) && (
        <button type="button" className="btn btn-sm btn-primary" disabled={act.isPending} onClick={() => act.mutate("retry")}>
          {resting === 1 ? "Go on now" : `Go on with all ${resting} now`}
        </button>
      )}
      {act.error && (
        <p role="alert" className="text-error text-sm">
          {act.error.message}
        </p>
      )}
    </div>
  );
}

function One({ run }: { run: Run }) {
  const status = useQuery(statusQuery);
  const moving = (item: Item) => status.data?.moving.find((one) => one.item === item.id);
  const decided = run.items.filter((item) => item.steps.length > 0);
  return (
    <div className="grid grid-cols-1 gap-4">
      <div>
        <Crumbs to="/runs" above="Runs" here={run.id} />
        <h1 className="flex flex-wrap items-center gap-3 text-2xl font-bold tracking-tight">
          <RuleLink rule={run.rule} title={run.title} />
          <StateBadge state={run.state} />
          <span className="flex-1" />
          <span className="text-base font-normal">
            <Actions run={run} />
          </span>
        </h1>
        <p className="quiet pt-1">
          Started by {CAUSES[run.cause] ?? run.cause}, <Time at={run.started} /> ·{" "}
          {[plural(run.items.filter((item) => item.kind !== "find").length, "file", "files"), counts(run)].filter(Boolean).join(" · ")}
        </p>
        {run.why && <p className="pt-1">{run.why}</p>}
        <About about={run.about} />
      </div>
      {decided.length > 0 && (
        <Crossing
          label="Files by steps"
          lanes={decided.slice(0, LANES).map((item) => lane(item, moving(item)))}
          more={decided.length > LANES ? `and ${decided.length - LANES} more` : undefined}
        />
      )}
      {run.items.map((item) => (
        <Detail key={item.id} item={item} />
      ))}
    </div>
  );
}

export function RunPage() {
  const { id = "" } = useParams();
  const list = (
    <Link to="/runs" className="link">
      See all runs
    </Link>
  );
  return (
    <Shown query={useQuery(runQuery(id))} list={list}>
      {(run) => <One run={run} />}
    </Shown>
  );
}
