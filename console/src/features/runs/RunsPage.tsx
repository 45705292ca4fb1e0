import { useInfiniteQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";

import { RuleLink } from "../../shared/ui/RuleLink";
import { Time, size, splitPath } from "../../shared/ui/format";
import { Empty, Shown, StateBadge } from "../../shared/ui/states";
import { runStates, runsQuery } from "./queries";

const STATES = ["", ...runStates];

export function RunsPage() {
  const [search, setSearch] = useSearchParams();
  const [rule, state] = [search.get("rule") ?? "", search.get("state") ?? ""];
  const runs = useInfiniteQuery(runsQuery({ rule, state }));
  const set = (key: string, value: string) =>
    setSearch(
      (now) => {
        if (value) now.set(key, value);
        else now.delete(key);
        return now;
      },
      { replace: true },
    );
  return (
    <>
      <h1 className="text-2xl font-bold tracking-tight">Runs</h1>
      <div className="flex flex-wrap items-center gap-3 py-3">
        <fieldset className="join" aria-label="State">
          {STATES.map((one) => (
            <button key={one} type="button" className={`btn btn-sm join-item ${state === one ? "btn-active" : ""}`} aria-pressed={state === one} onClick={() => set("state", one)}>
              {one || "all"}
            </button>
          ))}
        </fieldset>
        {rule && (
          <button type="button" className="btn btn-sm" onClick={() => set("rule", "")}>
            only {rule} ✕<span className="sr-only"> show all rules</span>
          </button>
        )}
      </div>
      <Shown query={runs}>
        {({ pages }) => {
          const all = pages.flatMap((page) => page.runs);
          if (all.length === 0) {
            return (
              <Empty title={rule || state ? "No run is like that" : "Nothing ran yet"}>
                {rule || state ? (
                  "Choose another state, or all."
                ) : (
                  <>
                    A run begins when a file is complete in a folder that a rule watches.{" "}
                    <Link to="/rules" className="link">
                      See the rules
                    </Link>
                    .
                  </>
                )}
              </Empty>
            );
          }
          return (
            <div className="panel overflow-x-auto">
              <table className="table-sm table">
                <caption className="sr-only">Runs, newest first</caption>
                <thead>
                  <tr>
                    <th scope="col">run</th>
                    <th scope="col">state</th>
                    <th scope="col">file</th>
                    <th scope="col">rule</th>
                    <th scope="col">size</th>
                    <th scope="col">started</th>
                  </tr>
                </thead>
                <tbody>
                  {all.map((run) => (
                    <tr key={run.id} className="align-top">
                      <td>
                        <Link to={`/runs/${run.id}`} className="link">
                          {run.id}
                        </Link>
                      </td>
                      <td>
                        <StateBadge state={run.state} />
                      </td>
                      <td className="min-w-40 [overflow-wrap:anywhere]">
                        <Link to={`/runs/${run.id}`} className="file plain">
                          {splitPath(run.file).name}
                        </Link>
                        {run.why && <span className="quiet block text-sm">{run.why}</span>}
                      </td>
                      <td>
                        <RuleLink rule={run.rule} title={run.title} />
                      </td>
                      <td className="whitespace-nowrap">{size(run.size)}</td>
                      <td className="quiet whitespace-nowrap">
                        <Time at={run.started} />
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
              {runs.hasNextPage && (
                <p className="p-2 text-center">
                  <button type="button" className="btn btn-sm" disabled={runs.isFetchingNextPage} onClick={() => void runs.fetchNextPage()}>
                    Older runs
                  </button>
                </p>
              )}
            </div>
          );
        }}
      </Shown>
    </>
  );
}
