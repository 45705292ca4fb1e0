import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";

import { placesQuery } from "../../shared/api/status";
import { Crumbs } from "../../shared/ui/Crumbs";
import { BookText } from "../../shared/ui/BookText";
import { Empty, Shown } from "../../shared/ui/states";

const starter = (place: string): string => `[rule.new-rule]
title  = "What it does, in a few words"
why    = "Why it exists, and with whom it was agreed"
starts = { arrival = { place = "${place}", folder = "in", names = ["*.csv"], settle = "3s" } }

[[rule.new-rule.branch]]
title    = "Every sheet"
steps    = [ { copy = { to = "${place}", folder = "out/{{ today }}" } } ]
original = { move-to = "done" }
`;

export function NewRulePage() {
  return (
    <>
      <Crumbs to="/rules" above="Rules" here="new" />
      <h1 className="pb-3 text-2xl font-bold tracking-tight">New rule</h1>
      <Shown query={useQuery(placesQuery)}>
        {(places) =>
          places[0] ? (
            <BookText kind="rule" name="" text={starter(places[0].name)} />
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
