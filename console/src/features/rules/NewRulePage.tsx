import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";

import { placesQuery } from "../../shared/api/status";
import { keep } from "../../shared/form/kept";
import type { Draft } from "../../shared/form/useDraft";
import type { Table } from "../../shared/form/values";
import { Crumbs } from "../../shared/ui/Crumbs";
import { Empty, Shown } from "../../shared/ui/states";
import { Tabs } from "../../shared/ui/Tabs";
import { RuleEditor } from "./build/RuleEditor";
import { AskStarter } from "./start/AskStarter";
import { ChooseStarter } from "./start/ChooseStarter";
import { startersQuery } from "./start/queries";

/** A new rule: what starts it and what it does is still to be said. */
const BEGUN = `[rule.new-rule]
starts = {}

[[rule.new-rule.branch]]
steps = []
`;

const TABS = ["build", "text", "rehearse"] as const;

function Build({ text }: { text: string }) {
  const [tab, setTab] = useState<(typeof TABS)[number]>("build");
  return (
    <Tabs label="How it is made" tabs={TABS} words={{ build: "Build", text: "Text", rehearse: "Rehearse" }} tab={tab} onTab={setTab}>
      <RuleEditor name="" text={text} tab={tab} />
    </Tabs>
  );
}

function FromStarter({ name }: { name: string }) {
  const navigate = useNavigate();
  return (
    <Shown query={useQuery(startersQuery)}>
      {(all) => {
        const starter = all.find((one) => one.name === name);
        if (!starter) return <Empty title={`There is no starter “${name}”`} />;
        // What was begun before gives way to what was chosen now.
        const begin = (draft: Draft) => {
          keep("rule", "", { name: draft.name, value: draft.value as Table, base: "", version: undefined });
          void navigate("/rules/new?from=draft");
        };
        return <AskStarter starter={starter} onRule={begin} />;
      }}
    </Shown>
  );
}

export function NewRulePage() {
  const [search] = useSearchParams();
  const from = search.get("from");
  return (
    <>
      <Crumbs to="/rules" above="Rules" here="new" />
      <h1 className="pb-3 text-2xl font-bold tracking-tight">New rule</h1>
      <Shown query={useQuery(placesQuery)}>
        {(places) => {
          if (places.length === 0) {
            return (
              <Empty title="A rule needs a place first">
                <Link to="/places/new" className="link">
                  Add a place
                </Link>
                , then come back.
              </Empty>
            );
          }
          if (from === null) return <ChooseStarter />;
          if (from === "draft" || from === "nothing") return <Build text={BEGUN} />;
          return <FromStarter key={from} name={from} />;
        }}
      </Shown>
    </>
  );
}
