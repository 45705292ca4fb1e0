import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";

import type { Place } from "../../shared/api/client";
import { placesQuery } from "../../shared/api/status";
import { Time, plural } from "../../shared/ui/format";
import { Empty, Shown, StateBadge } from "../../shared/ui/states";
import { May } from "../../shared/ui/May";

/** How many rules and twins use it. */
function usersOf(place: Place): string {
  const told = [
    place.rules.length > 0 && plural(place.rules.length, "rule", "rules"),
    place.twins.length > 0 && plural(place.twins.length, "twin", "twins"),
  ].filter(Boolean);
  if (told.length === 0) return "no rule and no twin uses it";
  return `${told.join(" and ")} ${place.rules.length + place.twins.length === 1 ? "uses" : "use"} it`;
}

export function PlacesPage() {
  return (
    <>
      <div className="flex flex-wrap items-center gap-4 pb-3">
        <h1 className="flex-1 text-2xl font-bold tracking-tight">Places</h1>
        <Link to="/places/side-by-side" className="btn btn-sm">
          Side by side
        </Link>
        <May as="manager">
          <Link to="/places/new" className="btn btn-sm btn-primary">
            Add a place
          </Link>
        </May>
      </div>
      <Shown query={useQuery(placesQuery)}>
        {(places) =>
          places.length === 0 ? (
            <Empty title="No place yet">
              A place is a folder of this machine or a server where files come from or go to.{" "}
              <Link to="/places/new" className="link">
                Add the first one
              </Link>
              .
            </Empty>
          ) : (
            <ul className="panel">
              {places.map((place) => (
                <li key={place.name} className="flex flex-wrap items-start gap-x-4 gap-y-1 px-4 py-3">
                  <span className="w-24 pt-0.5">
                    <StateBadge state={place.state} />
                  </span>
                  <div className="min-w-64 flex-1">
                    <Link to={`/places/${place.name}`} className="plain text-base font-semibold">
                      {place.name}
                    </Link>
                    <p className="file quiet text-sm [overflow-wrap:anywhere]">
                      {place.kind} · {place.address}
                    </p>
                    {place.error && (
                      <p className="pt-1 text-sm [overflow-wrap:anywhere]">
                        {place.error}. {place.remedy}
                      </p>
                    )}
                  </div>
                  <div className="quiet grid justify-items-end text-sm">
                    <span>
                      last contact <Time at={place.at} />
                    </span>
                    <span>
                      {usersOf(place)}
                    </span>
                  </div>
                </li>
              ))}
            </ul>
          )
        }
      </Shown>
    </>
  );
}
