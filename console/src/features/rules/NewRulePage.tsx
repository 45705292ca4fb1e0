import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";

import { placesQuery } from "../../shared/api/status";
import { Crumbs } from "../../shared/ui/Crumbs";
import { Empty, Shown } from "../../shared/ui/states";
import { Tabs } from "../../shared/ui/Tabs";
import { RuleEditor } from "./build/RuleEditor";

/** A new rule: what starts it and what it does is still to be said. */
const BEGUN = `[rule.new-rule]
starts = {}

[[rule.new-rule.branch]]
steps = []
`;

const TABS = ["build", "text"] as const;

export function NewRulePage() {
  const [tab, setTab] = useState<(typeof TABS)[number]>("build");
  return (
    <>
      <Crumbs to="/rules" above="Rules" here="new" />
      <h1 className="pb-3 text-2xl font-bold tracking-tight">New rule</h1>
      <Shown query={useQuery(placesQuery)}>
        {(places) =>
          places[0] ? (
            <Tabs label="How it is made" tabs={TABS} words={{ build: "Build", text: "Text" }} tab={tab} onTab={setTab}>
              <RuleEditor name="" text={BEGUN} tab={tab} />
            </Tabs>
          ) : (
            <Empty title="A rule needs a place first">
              <Link to="/places/new" className="link">
                Add a place
              </Link>
              , then come back.
            </Empty>
          )
        }
      </Shown>
    </>
  );
}
