import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";

import { type RuleSummary, api, told } from "../../shared/api/client";
import { Time } from "../../shared/ui/format";
import { Empty, Failure, Shown, StateBadge } from "../../shared/ui/states";
import { Order } from "./Order";
import { DayStrip } from "./DayStrip";
import { rulesQuery } from "./queries";
import { May } from "../../shared/ui/May";
import { useMay } from "../../shared/api/me";

function Row({ rule, chosen, choose }: { rule: RuleSummary; chosen: boolean; choose: (on: boolean) => void }) {
  return (
    <li className="grid grid-cols-[auto_1fr_auto] items-start gap-x-4 gap-y-1 px-4 py-3">
      <input
        type="checkbox"
        className="checkbox checkbox-sm mt-1 rounded-sm"
        checked={chosen}
        onChange={(event) => choose(event.target.checked)}
        aria-label={`Choose ${rule.title}`}
      />
      <div className="min-w-0">
        <p>
          <Link to={`/rules/${rule.name}`} className="plain text-base font-semibold">
            {rule.title}
          </Link>{" "}
          {!rule.on && <span className="badge badge-ghost badge-sm">off</span>}
        </p>
        <p className="quiet max-w-[46rem] text-sm [overflow-wrap:anywhere]">{rule.sentence}</p>
      </div>
      <div className="grid justify-items-end gap-1 text-sm">
        {rule.last ? (
          <span className="flex items-center gap-2">
            <Link to={`/runs/${rule.last.run}`} className="plain">
              <Time at={rule.last.started} />
            </Link>
            <StateBadge state={rule.last.state} />
          </span>
        ) : (
          <span className="quiet">never ran</span>
        )}
        <DayStrip days={rule.days} />
      </div>
    </li>
  );
}

function List({ rules }: { rules: RuleSummary[] }) {
  const client = useQueryClient();
  const [chosen, setChosen] = useState<string[]>([]);
  const [isOrdering, setOrdering] = useState(false);
  const mayArrange = useMay("manager");
  const change = useMutation({
    mutationFn: (on: boolean) => Promise.all(chosen.map((name) => told(api.POST("/api/v1/rules/{name}/switch", { params: { path: { name } }, body: { on } })))),
    onSuccess: () => setChosen([]),
    onSettled: () => client.invalidateQueries({ queryKey: ["live"] }),
  });
  if (rules.length === 0) {
    return (
      <Empty title="Nothing is arranged yet">
        A rule says what starts it, which files it is about, and what happens to them.{" "}
        <Link to="/rules/new" className="link">
          Choose from ready arrangements
        </Link>
        , or begin with nothing.
      </Empty>
    );
  }
  if (isOrdering) return <Order rules={rules} onDone={() => setOrdering(false)} />;
  return (
    <>
      {change.error && <Failure error={change.error} />}
      <div className="flex min-h-9 items-center gap-2 pb-2 text-sm">
        {mayArrange && chosen.length > 0 ? (
          <>
            <span>{chosen.length} chosen</span>
            <button type="button" className="btn btn-sm" onClick={() => change.mutate(true)}>
              Switch on
            </button>
            <button type="button" className="btn btn-sm" onClick={() => change.mutate(false)}>
              Switch off
            </button>
          </>
        ) : (
          <span className="quiet">
            {rules.filter((rule) => rule.on).length} on, {rules.filter((rule) => !rule.on).length} off. Asked in this order{mayArrange && rules.length > 1 && (
              <>
                {" "}
                (
                <button type="button" className="link" onClick={() => setOrdering(true)}>
                  change it
                </button>
                )
              </>
            )}
            . The strip shows two weeks.
          </span>
        )}
      </div>
      <ul className="panel">
        {rules.map((rule) => (
          <Row
            key={rule.name}
            rule={rule}
            chosen={chosen.includes(rule.name)}
            choose={(on) => setChosen((now) => (on ? [...now, rule.name] : now.filter((name) => name !== rule.name)))}
          />
        ))}
      </ul>
    </>
  );
}

export function RulesPage() {
  return (
    <>
      <div className="flex items-center justify-between pb-1">
        <h1 className="text-2xl font-bold tracking-tight">Rules</h1>
        <May as="manager">
          <Link to="/rules/new" className="btn btn-sm btn-primary">
            New rule
          </Link>
        </May>
      </div>
      <Shown query={useQuery(rulesQuery)}>{(rules) => <List rules={rules} />}</Shown>
    </>
  );
}
