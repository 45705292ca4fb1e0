import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";

import { Due, Time } from "../../shared/ui/format";
import { Empty, Shown, StateBadge } from "../../shared/ui/states";
import { type Twin, twinsQuery } from "./queries";
import { May } from "../../shared/ui/May";

const SIGNS: Record<string, string> = { add: "→+", update: "→", exact: "⇒", both: "⇄" };

function One({ twin }: { twin: Twin }) {
  return (
    <li className="flex flex-wrap items-start gap-x-4 gap-y-1 px-4 py-3">
      <span className="w-24 pt-0.5">
        <StateBadge state={twin.state} />
      </span>
      <div className="min-w-64 flex-1">
        <Link to={`/twins/${twin.name}`} className="plain text-base font-semibold">
          {twin.title}
        </Link>
        <p className="text-sm [overflow-wrap:anywhere]">
          <span className="file">{twin.near}</span> <span aria-hidden>{SIGNS[twin.way]}</span> <span className="sr-only">{twin.way}</span>{" "}
          <span className="file">{twin.far}</span>
        </p>
        <p className="quiet text-sm [overflow-wrap:anywhere]">{twin.state === "alike" ? twin.sentence : `${twin.words}.`}</p>
      </div>
      <div className="quiet grid justify-items-end text-sm">
        <span>
          {twin.state === "alike" ? "since " : ""}
          <Time at={twin.since} />
        </span>
        {!twin.on && <span>off</span>}
        {twin.next && (
          <span>
            next <Due at={twin.next} />
          </span>
        )}
      </div>
    </li>
  );
}

export function TwinsPage() {
  return (
    <>
      <div className="flex flex-wrap items-center gap-4 pb-3">
        <h1 className="flex-1 text-2xl font-bold tracking-tight">Twins</h1>
        <May as="manager">
          <Link to="/twins/new" className="btn btn-sm btn-primary">
            Add a twin
          </Link>
        </May>
      </div>
      <Shown query={useQuery(twinsQuery)}>
        {(twins) =>
          twins.length === 0 ? (
            <Empty title="No twin yet">
              A twin is two folders that are kept alike: one way or both, by the clock or whenever something changes. You see what it would do before
              it does anything.{" "}
              <Link to="/twins/new" className="link">
                Add the first one
              </Link>
              .
            </Empty>
          ) : (
            <ul className="panel">
              {twins.map((twin) => (
                <One key={twin.name} twin={twin} />
              ))}
            </ul>
          )
        }
      </Shown>
    </>
  );
}
