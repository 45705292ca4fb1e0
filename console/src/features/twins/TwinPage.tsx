import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useParams, useSearchParams } from "react-router";

import { api, told } from "../../shared/api/client";
import { SectionOf } from "../../shared/section/SectionOf";
import { Crumbs } from "../../shared/ui/Crumbs";
import { Due, Time, plural } from "../../shared/ui/format";
import { Empty, Failure, Shown, StateBadge } from "../../shared/ui/states";
import { Tabs } from "../../shared/ui/Tabs";
import { Compare } from "./Compare";
import { KeptFiles } from "./Kept";
import { type Twin, twinQuery } from "./queries";
import { useMay } from "../../shared/api/me";

const TABS = ["compare", "passes", "kept", "arranged"] as const;
const WORDS = { compare: "Compare", passes: "Passes", kept: "Kept", arranged: "As arranged" };

function Passes({ twin }: { twin: Twin }) {
  if (twin.passes.length === 0) return <Empty title="No pass was made yet">Compare both sides, then do the plan.</Empty>;
  return (
    <ul className="panel">
      {twin.passes.map((pass) => (
        <li key={pass.id} className="flex flex-wrap items-start gap-x-4 gap-y-1 px-4 py-2">
          <span className="w-28 text-sm">
            <Time at={pass.began} />
          </span>
          <span className="min-w-64 flex-1 [overflow-wrap:anywhere]">
            {pass.why ? <strong className="font-semibold">{pass.why}</strong> : pass.words}
            {pass.why && pass.words && <span className="quiet block text-sm">planned: {pass.words}</span>}
          </span>
          <span className="quiet text-sm">
            {pass.near_files} here, {pass.far_files} there
          </span>
          {pass.run ? (
            <Link className="link text-sm" to={`/runs/${pass.run}`}>
              run {pass.run}
            </Link>
          ) : (
            <span className="quiet text-sm">
              until <Time at={pass.ended} />
            </span>
          )}
        </li>
      ))}
    </ul>
  );
}

function One({ twin }: { twin: Twin }) {
  const client = useQueryClient();
  const [search, setSearch] = useSearchParams();
  const mayArrange = useMay("manager");
  const tab = TABS.find((one) => one === search.get("tab")) ?? "compare";
  const change = useMutation({
    mutationFn: (on: boolean) => told(api.POST("/api/v1/twins/{name}/switch", { params: { path: { name: twin.name } }, body: { on } })),
    onSettled: () => client.invalidateQueries({ queryKey: ["live"] }),
  });
  return (
    <div className="grid grid-cols-1 gap-4">
      <div className="flex flex-wrap items-start justify-between gap-3">
        <div className="min-w-0 flex-1">
          <Crumbs to="/twins" above="Twins" here={twin.name} />
          <h1 className="text-2xl font-bold tracking-tight">{twin.title}</h1>
          <p className="max-w-[52rem] pt-1 [overflow-wrap:anywhere]">{twin.sentence}</p>
          {twin.why && <p className="quiet pt-1 text-sm">Why: {twin.why}</p>}
          <p className="flex flex-wrap items-center gap-2 pt-2 text-sm">
            <StateBadge state={twin.state} /> <span className="[overflow-wrap:anywhere]">{twin.words}</span>
            <span className="quiet">
              {twin.since && (
                <>
                  since <Time at={twin.since} />
                </>
              )}
              {twin.next && (
                <>
                  {" "}
                  · next <Due at={twin.next} />
                </>
              )}{" "}
              · lost files kept {plural(twin.keep_days, "day", "days")}
            </span>
          </p>
        </div>
        <label className="flex items-center gap-2">
          <input type="checkbox" className="toggle toggle-primary" checked={twin.on} disabled={change.isPending || !mayArrange} onChange={(event) => change.mutate(event.target.checked)} />
          {twin.on ? "on" : "off"}
        </label>
      </div>
      {change.error && <Failure error={change.error} />}
      <Tabs
        label="The twin"
        tabs={TABS}
        words={WORDS}
        tab={tab}
        onTab={(one) =>
          setSearch((now) => {
            now.set("tab", one);
            return now;
          })
        }
      >
        <div className="pt-3">
          {tab === "compare" && <Compare twin={twin} />}
          {tab === "passes" && <Passes twin={twin} />}
          {tab === "kept" && <KeptFiles twin={twin} />}
          {tab === "arranged" && <SectionOf kind="twin" name={twin.name} />}
        </div>
      </Tabs>
    </div>
  );
}

export function TwinPage() {
  const { name = "" } = useParams();
  return (
    <Shown
      query={useQuery(twinQuery(name))}
      list={
        <Link className="link" to="/twins">
          See all twins
        </Link>
      }
    >
      {(twin) => <One twin={twin} />}
    </Shown>
  );
}
