import type { Schemas } from "../../../shared/api/client";

type Day = Schemas["RehearsedDay"];

const short = new Intl.DateTimeFormat(undefined, { day: "numeric", month: "short", timeZone: "UTC" });
const named = (day: string): string => short.format(new Date(`${day}T00:00:00Z`));

/** Every day from the first to the last, those on which nothing came too. */
function whole(days: Day[]): Day[] {
  const known = new Map(days.map((one) => [one.day, one]));
  const [first, last] = [days[0], days.at(-1)];
  if (!first || !last) return [];
  const all: Day[] = [];
  for (let at = Date.parse(`${first.day}T00:00:00Z`); at <= Date.parse(`${last.day}T00:00:00Z`); at += 86_400_000) {
    const day = new Date(at).toISOString().slice(0, 10);
    all.push(known.get(day) ?? { day, files: 0, differing: 0 });
  }
  return all;
}

const HEIGHT = 76;

/** What came by day; under a day stands how many of its files would go otherwise. A day shows its files. */
export function Days({ days, day, onDay }: { days: Day[]; day: string | undefined; onDay: (day: string | undefined) => void }) {
  const all = whole(days);
  const most = Math.max(1, ...all.map((one) => one.files));
  const step = Math.max(1, Math.ceil(all.length / 8));
  return (
    <section aria-label="Arrivals by day" className="panel px-3 pt-3 pb-2">
      <div className="flex items-end gap-[2px] overflow-x-auto" style={{ minHeight: HEIGHT + 44 }}>
        {all.map((one, at) => (
          <button
            key={one.day}
            type="button"
            aria-pressed={day === one.day}
            aria-label={`${named(one.day)}: ${one.files} files${one.differing ? `, ${one.differing} would go otherwise` : ""}`}
            title={`${named(one.day)}: ${one.files}`}
            disabled={one.files === 0}
            className="day-bar"
            data-differing={one.differing > 0}
            onClick={() => onDay(day === one.day ? undefined : one.day)}
          >
            <span className="day-bar-files" style={{ height: Math.max(one.files > 0 ? 2 : 0, (one.files / most) * HEIGHT) }} />
            <span className="day-bar-differing">{one.differing > 0 ? `▲ ${one.differing}` : ""}</span>
            <span className="day-bar-name">{at % step === 0 ? named(one.day) : ""}</span>
          </button>
        ))}
      </div>
      <details className="text-sm">
        <summary className="quiet cursor-pointer">
          <span aria-hidden className="day-key" /> files that came <span aria-hidden>▲</span> so many would go otherwise · as a table
        </summary>
        <table className="table-xs table max-w-md">
          <caption className="sr-only">Arrivals by day</caption>
          <thead>
            <tr>
              <th scope="col">day</th>
              <th scope="col">files</th>
              <th scope="col">go otherwise</th>
            </tr>
          </thead>
          <tbody>
            {days.map((one) => (
              <tr key={one.day}>
                <td>{one.day}</td>
                <td>{one.files}</td>
                <td>{one.differing}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </details>
    </section>
  );
}
