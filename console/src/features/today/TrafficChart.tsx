import { Suspense, lazy } from "react";

import type { Status } from "../../shared/api/client";
import { size } from "../../shared/ui/format";

type Traffic = Status["today"];

// The page stands before what draws is there: it is half of the script.
const TrafficBars = lazy(() => import("./TrafficBars"));

const hour = (number: number): string => String(number).padStart(2, "0");

/** Files an hour; the same numbers as a table behind it. */
export function TrafficChart({ traffic }: { traffic: Traffic }) {
  const rows = traffic.hours.map((one) => ({ ...one, name: hour(one.hour) }));
  const some = rows.filter((row) => row.done || row.held || row.skipped);
  return (
    <div className="panel p-3">
      <div aria-hidden className="h-36">
        <Suspense fallback={null}>
          <TrafficBars rows={rows} />
        </Suspense>
      </div>
      <details className="pt-1 text-sm">
        <summary className="quiet cursor-pointer">
          <span aria-hidden className="text-success">
            ■
          </span>{" "}
          crossed{" "}
          <span aria-hidden className="text-error">
            ■
          </span>{" "}
          held · as a table
        </summary>
        <table className="table-xs table max-w-md">
          <caption className="sr-only">Files by hour</caption>
          <thead>
            <tr>
              <th scope="col">hour</th>
              <th scope="col">crossed</th>
              <th scope="col">size</th>
              <th scope="col">held</th>
              <th scope="col">skipped</th>
            </tr>
          </thead>
          <tbody>
            {some.map((row) => (
              <tr key={row.hour}>
                <td>{row.name}:00</td>
                <td>{row.done}</td>
                <td>{size(row.bytes)}</td>
                <td>{row.held}</td>
                <td>{row.skipped}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </details>
    </div>
  );
}
