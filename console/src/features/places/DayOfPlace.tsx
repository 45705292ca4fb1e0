import { useQuery } from "@tanstack/react-query";

import { api, told } from "../../shared/api/client";
import { Clock } from "../../shared/ui/format";
import { Shown } from "../../shared/ui/states";

const colours: Record<string, string> = { well: "bg-success/60", away: "bg-error", unknown: "bg-base-300" };

const minutes = (from: string, to: string): number => (new Date(to).getTime() - new Date(from).getTime()) / 60_000;

function lasted(from: string, to: string): string {
  const all = minutes(from, to);
  return all < 1 ? "under a minute" : all < 90 ? `${Math.round(all)} min` : `${Math.round(all / 60)} h`;
}

/** How a place did in the last day, as a strip; each time it was away is told in words below it. */
export function DayOfPlace({ place }: { place: string }) {
  const query = useQuery({ queryKey: ["live", "places", place, "day"], queryFn: () => told(api.GET("/api/v1/places/{name}/day", { params: { path: { name: place } } })) });
  return (
    <section className="panel" aria-label="Its last day">
      <div className="px-4 py-3">
        <h2 className="pb-2 text-sm font-semibold">Its last day</h2>
        <Shown query={query}>
          {(day) => {
            const whole = minutes(day.from, day.to);
            const away = day.spans.filter((span) => span.state === "away");
            return (
              <>
                <div className="flex h-4 overflow-hidden rounded" aria-hidden>
                  {day.spans.map((span) => (
                    <span
                      key={span.from}
                      className={`${colours[span.state] ?? ""} min-w-px`}
                      style={{ width: `${(minutes(span.from, span.to) / whole) * 100}%` }}
                      title={`${span.state} for ${lasted(span.from, span.to)}`}
                    />
                  ))}
                </div>
                <p className="quiet flex justify-between pt-1 text-xs">
                  <span>a day ago</span>
                  <span>now</span>
                </p>
                {away.length === 0 ? (
                  <p className="quiet pt-1 text-sm">It was never away in that time, as far as is known.</p>
                ) : (
                  <ul className="pt-1 text-sm">
                    {away.slice(-3).map((span) => (
                      <li key={span.from} className="[overflow-wrap:anywhere]">
                        away from <Clock at={span.from} />, for {lasted(span.from, span.to)}
                      </li>
                    ))}
                    {away.length > 3 && <li className="quiet">and {away.length - 3} times before</li>}
                  </ul>
                )}
              </>
            );
          }}
        </Shown>
      </div>
    </section>
  );
}
