import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";

import { keep, kept } from "../../../shared/form/kept";
import { Shown } from "../../../shared/ui/states";
import { WANTS, startersQuery } from "./queries";

/** Ready arrangements by what one wants, and an empty rule for who knows better. */
export function ChooseStarter() {
  const begun = kept("rule", "");
  return (
    <Shown query={useQuery(startersQuery)}>
      {(starters) => (
        <div className="grid gap-5">
          <p className="flex flex-wrap items-center gap-3">
            {begun && (
              <Link to="/rules/new?from=draft" className="btn btn-sm btn-primary">
                Go on with “{begun.name}”, which is not in force yet
              </Link>
            )}
            <Link to="/rules/new?from=nothing" className="btn btn-sm" onClick={() => keep("rule", "", undefined)}>
              {begun ? "Drop it and begin with an empty rule" : "Begin with an empty rule"}
            </Link>
            <span className="quiet text-sm">or take what is nearest to what you want; all of it can be changed before it is in force.</span>
          </p>
          {WANTS.map(([want, title]) => (
            <section key={want} aria-label={title}>
              <h2 className="pb-2 text-lg font-semibold">{title}</h2>
              <ul className="grid gap-3 sm:grid-cols-2 lg:grid-cols-3">
                {starters
                  .filter((starter) => starter.want === want)
                  .map((starter) => (
                    <li key={starter.name} className="panel">
                      <Link to={`/rules/new?from=${starter.name}`} className="block h-full px-4 py-3">
                        <span className="link link-hover font-semibold">{starter.title}</span>
                        <span className="quiet block pt-1 text-sm">{starter.about}</span>
                      </Link>
                    </li>
                  ))}
              </ul>
            </section>
          ))}
        </div>
      )}
    </Shown>
  );
}
