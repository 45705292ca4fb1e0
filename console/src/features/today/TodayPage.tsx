import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";

import type { Place, Status } from "../../shared/api/client";
import { placesQuery, statusQuery } from "../../shared/api/status";
import { Crossing, type Lane } from "../../shared/ui/Crossing";
import { HoldCard } from "../../shared/ui/HoldCard";
import { RuleLink } from "../../shared/ui/RuleLink";
import { WarningLine } from "../../shared/ui/WarningLine";
import { Due, Time, capital, plural, size, splitPath } from "../../shared/ui/format";
import { Empty, Shown } from "../../shared/ui/states";
import { FirstHour } from "./FirstHour";
import { TrafficChart } from "./TrafficChart";
import { holdsQuery } from "./queries";

const LANES = 6;
const HOLDS = 4;

const day = new Intl.DateTimeFormat(undefined, { weekday: "long", day: "numeric", month: "long" });

function headline(status: Status): string {
  const parts = [];
  if (status.held) parts.push(`${plural(status.held, "file waits", "files wait")} for you`);
  if (status.places_away.length) parts.push(plural(status.places_away.length, "place is not reachable", "places are not reachable"));
  return parts.length ? capital(parts.join(", ")) : "Nothing waits for you";
}

function lanes(status: Status): Lane[] {
  return status.moving.slice(0, LANES).map((moving) => ({
    key: String(moving.item),
    near: (
      <>
        <Link to={`/runs/${moving.run}`} className="plain block font-semibold">
          {moving.title}
        </Link>
        <span className="file text-xs">{splitPath(moving.file).name}</span>
      </>
    ),
    far: <span>{moving.to}</span>,
    stones: moving.steps.map(({ at, kind, state }) => ({
      key: `${at}`,
      label: kind,
      state: state === "done" || state === "working" ? state : "waiting",
      detail: at === moving.step && moving.total > 0 ? `${Math.min(100, Math.round((moving.done / moving.total) * 100))} %` : undefined,
      spoken: at === moving.step ? `${size(moving.done)} of ${size(moving.total)}` : undefined,
    })),
  }));
}

function Holds() {
  const query = useQuery(holdsQuery);
  const [all, setAll] = useState(false);
  return (
    <Shown query={query}>
      {({ holds }) =>
        holds.length === 0 ? (
          <></>
        ) : (
          <section className="panel" aria-label="Held files">
            {(all ? holds : holds.slice(0, HOLDS)).map((hold) => (
              <HoldCard key={hold.item} hold={hold} />
            ))}
            {!all && holds.length > HOLDS && (
              <p className="px-4 py-2">
                <button type="button" className="btn btn-ghost btn-sm" onClick={() => setAll(true)}>
                  and {holds.length - HOLDS} more
                </button>
              </p>
            )}
          </section>
        )
      }
    </Shown>
  );
}

function PlaceRow({ place }: { place: Place }) {
  return (
    <li className="px-3 py-2">
      <div className="flex justify-between gap-3">
        <Link to={`/places/${place.name}`} className="plain">
          {place.name}
        </Link>
        {place.state === "away" ? (
          <span className="text-error font-semibold">
            ✕ <Time at={place.since ?? place.at} />
          </span>
        ) : (
          <span className="quiet">{place.state === "well" ? "✓ well" : "not used yet"}</span>
        )}
      </div>
      {place.error && <p className="quiet text-sm [overflow-wrap:anywhere]">{place.error}</p>}
    </li>
  );
}

function Places() {
  return (
    <aside>
      <h2 className="pb-2 font-semibold">Places</h2>
      <Shown query={useQuery(placesQuery)}>
        {(places) =>
          places.length ? (
            <ul className="panel">
              {places.map((place) => (
                <PlaceRow key={place.name} place={place} />
              ))}
            </ul>
          ) : (
            <Empty title="No place yet">
              <Link to="/places/new" className="link">
                Add the first one
              </Link>
              : a folder, or a server where files come from or go to.
            </Empty>
          )
        }
      </Shown>
    </aside>
  );
}

function Standing({ status }: { status: Status }) {
  const waiting = status.queued + status.waiting + status.joining;
  return (
    <div className="grid min-w-0 gap-5">
      <div>
        <h1 className="text-2xl font-bold tracking-tight">{headline(status)}</h1>
        <p className="quiet pt-1">
          {day.format(new Date(status.today.from))} · {status.today.done.toLocaleString()} {status.today.done === 1 ? "file" : "files"} crossed since midnight (
          {size(status.today.bytes)}){waiting > 0 && `, ${waiting.toLocaleString()} on the way`}
        </p>
      </div>
      <FirstHour />
      <Holds />
      {status.warnings.length > 0 && (
        <section className="panel" aria-label="Expires soon">
          {status.warnings.map((warning) => (
            <div key={warning.what} className="px-4 pt-1 pb-2">
              <WarningLine warning={warning} />
            </div>
          ))}
        </section>
      )}
      <section>
        <h2 className="pb-2 font-semibold">Crossing now</h2>
        {status.moving.length ? (
          <Crossing
            label="Files that move now"
            lanes={lanes(status)}
            more={status.moving.length > LANES ? `and ${status.moving.length - LANES} more` : undefined}
          />
        ) : (
          <p className="panel quiet px-4 py-4">
            {status.rules_on ? "No file is moving at this moment." : "No rule is on yet, so no file is taken."}{" "}
            <Link to={status.rules_on ? "/runs" : "/rules/new"} className="link">
              {status.rules_on ? "See what ran" : "Make a rule"}
            </Link>
          </p>
        )}
      </section>
      {status.next.length > 0 && (
        <section>
          <h2 className="pb-2 font-semibold">Next by the clock</h2>
          <ul className="panel">
            {status.next.map((firing) => (
              <li key={firing.rule} className="flex flex-wrap justify-between gap-x-4 px-4 py-2">
                <RuleLink rule={firing.rule} title={firing.title} />
                <span className="quiet">
                  <Due at={firing.at} />
                </span>
              </li>
            ))}
          </ul>
        </section>
      )}
      <section>
        <h2 className="flex justify-between pb-2 font-semibold">
          The day’s traffic <span className="quiet font-normal">files an hour</span>
        </h2>
        <TrafficChart traffic={status.today} />
      </section>
    </div>
  );
}

export function TodayPage() {
  const status = useQuery(statusQuery);
  return (
    <div className="grid gap-6 lg:grid-cols-[1fr_19rem]">
      <Shown query={status}>{(data) => <Standing status={data} />}</Shown>
      <Places />
    </div>
  );
}
