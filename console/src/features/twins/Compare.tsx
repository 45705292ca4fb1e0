import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";

import { ApiError, api, told } from "../../shared/api/client";
import { sectionQuery } from "../../shared/section/Stale";
import { Clock, plural, size } from "../../shared/ui/format";
import { Empty, Failure, Shown } from "../../shared/ui/states";
import { Brake } from "./Brake";
import { Plan } from "./Plan";
import { type Choices, type Comparison, NOTHING, type Twin, comparisonQuery } from "./queries";
import { isWithout, patternOf, sum, travels } from "./tree";
import { May } from "../../shared/ui/May";

/** Lines that are shown at first; all of them if it is asked for, up to this. */
const [LINES, MOST] = [2000, 20_000];

/** Puts what is left out for ever into the book. */
async function exceptForEver(name: string, pattern: string): Promise<void> {
  const params = { path: { kind: "twin", name } };
  const section = await told(api.GET("/api/v1/book/{kind}/{name}", { params }));
  const text = section.text ?? "";
  const read = await told(api.POST("/api/v1/drafts/{kind}", { params: { path: { kind: "twin" } }, body: { text } }));
  const value = read.value as unknown as { except?: string[] };
  const changed = { ...value, except: [...(value.except ?? []), pattern] };
  const draft = await told(api.POST("/api/v1/drafts/{kind}", { params: { path: { kind: "twin" } }, body: { name, value: changed as unknown as typeof read.value, old: text } }));
  await told(
    api.PUT("/api/v1/book/{kind}/{name}", {
      params: { ...params, header: { "If-Match": `"${section.version}"` } },
      body: { text: draft.text, note: `left out for ever: ${pattern}` },
    }),
  );
}

function Found({ twin, found, onAgain, onMore }: { twin: Twin; found: Comparison; onAgain: () => void; onMore: () => void }) {
  const client = useQueryClient();
  const [without, setWithout] = useState<ReadonlySet<string>>(new Set());
  const [answers, setAnswers] = useState<Record<string, string>>({});
  const [isBraked, setBraked] = useState(found.stop !== null && found.stop !== undefined);
  const run = useMutation({
    mutationFn: (choices: Partial<Choices>) =>
      told(api.POST("/api/v1/twins/{name}/run", { params: { path: { name: twin.name } }, body: { choices: { ...NOTHING, answers, without: [...without], ...choices }, at_once: false } })),
    onSettled: () => client.invalidateQueries({ queryKey: ["live"] }),
    onSuccess: onAgain,
  });
  const forEver = useMutation({
    mutationFn: (path: string) => exceptForEver(twin.name, patternOf(path)),
    onSuccess: async () => {
      await client.invalidateQueries({ queryKey: sectionQuery("twin", twin.name).queryKey });
      onAgain();
    },
  });
  const leaveOut = (paths: string[], is: boolean) =>
    setWithout((now) => {
      const next = new Set([...now].filter((one) => !paths.some((path) => one === path || one.startsWith(`${path}/`))));
      if (is) for (const path of paths) next.add(path);
      return next;
    });
  const acts = (does: string) => does !== "leave" && does !== "ask";
  const ticked = found.lines.filter((line) => (acts(line.does) || answers[line.near]) && !isWithout(without, line.near));
  const bytes = ticked.reduce((total, line) => total + travels(line), 0);
  const error = run.error ?? forEver.error;
  const { stop } = found;
  const files = `${plural(found.near_files, "file", "files")} here, ${found.far_files} there`;
  if (found.all === 0)
    return (
      <Empty title="Both sides are alike">
        {files}, compared <Clock at={found.at} />.{" "}
        <button type="button" className="link" onClick={onAgain}>
          Compare again
        </button>
      </Empty>
    );
  return (
    <div className="grid gap-4">
      {stop && isBraked && (
        <Brake
          twin={twin}
          found={found}
          stop={stop}
          onAgain={onAgain}
          onMeant={() => run.mutate({ allow: stop })}
          onLeaveOut={() => {
            leaveOut(found.lines.filter((line) => line.on === stop.side && (line.does === "delete" || line.does === "replace")).map((line) => line.near), true);
            setBraked(false);
          }}
        />
      )}
      {found.first && <p>Both sides meet for the first time: nothing is deleted or replaced, and what lies on one side only is copied or asked about.</p>}
      {error && (
        <p role="alert" className="text-error">
          {error instanceof ApiError ? error.message : String(error)}
        </p>
      )}
      <Plan
        twin={twin}
        found={found}
        without={without}
        answers={answers}
        onWithout={(path, is) => leaveOut([path], is)}
        onAnswer={(path, answer) =>
          setAnswers((now) => {
            const others = Object.entries(now).filter(([one]) => one !== path);
            return Object.fromEntries(answer === undefined ? others : [...others, [path, answer]]);
          })
        }
        onForEver={(path) => forEver.mutate(path)}
      />
      <p className="quiet text-sm">
        {files}; what is alike is not shown. Compared <Clock at={found.at} />,{" "}
        <button type="button" className="link" onClick={onAgain}>
          again
        </button>
        .{" "}
        {found.all > found.lines.length && (
          <>
            The first {found.lines.length} of {found.all} lines are shown; all of them are done.{" "}
            {found.lines.length < MOST && (
              <button type="button" className="link" onClick={onMore}>
                Show more
              </button>
            )}
          </>
        )}
      </p>
      <div className="bar sticky bottom-0 z-10 -mx-4 border-t border-base-300 bg-base-100">
        <div className="flex flex-wrap items-center gap-3 px-4 py-3">
          <p className="min-w-48 flex-1">
            <strong className="font-semibold">Ticked:</strong> {found.all > found.lines.length && without.size === 0 ? found.words : sum(ticked)}
            {bytes > 0 && `, ${size(bytes)}`}
          </p>
          <May as="operator">
            <button type="button" className="btn btn-primary" disabled={run.isPending || (stop ? isBraked : false) || ticked.length === 0} onClick={() => run.mutate({})}>
              {run.isPending ? "A pass goes on…" : stop && isBraked ? "Do this plan: answer the brake first" : "Do this plan"}
            </button>
          </May>
        </div>
      </div>
    </div>
  );
}

/** What a pass would do, and doing it. */
export function Compare({ twin }: { twin: Twin }) {
  const client = useQueryClient();
  const [most, setMost] = useState(LINES);
  const query = useQuery(comparisonQuery(twin.name, most));
  const again = () => void client.resetQueries({ queryKey: ["twin-comparison", twin.name] });
  if (query.isFetching) return <output className="quiet block py-8">Both sides are looked at…</output>;
  if (query.error)
    return (
      <div className="grid gap-2">
        <Failure error={query.error} retry={again} />
        <p className="quiet text-sm">
          How a place is doing tells <Link to="/places">its page</Link>.
        </p>
      </div>
    );
  return <Shown query={query}>{(found) => <Found key={found.at} twin={twin} found={found} onAgain={again} onMore={() => setMost(MOST)} />}</Shown>;
}
