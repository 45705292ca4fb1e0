import { Bar, BarChart, ResponsiveContainer, Tooltip, XAxis, YAxis } from "recharts";

import type { Status } from "../../shared/api/client";
import { size } from "../../shared/ui/format";

type Traffic = Status["today"];

const hour = (number: number): string => String(number).padStart(2, "0");

/** Files an hour; the same numbers as a table behind it. */
export function TrafficChart({ traffic }: { traffic: Traffic }) {
  const rows = traffic.hours.map((one) => ({ ...one, name: hour(one.hour) }));
  const some = rows.filter((row) => row.done || row.held || row.skipped);
  return (
    <div className="panel p-3">
      <div aria-hidden className="h-36">
        <ResponsiveContainer width="100%" height="100%">
          <BarChart data={rows} margin={{ top: 4, right: 4, bottom: 0, left: 0 }}>
            <XAxis dataKey="name" interval={2} tickLine={false} axisLine={{ stroke: "var(--color-base-300)" }} tick={{ fill: "var(--color-base-content)", fontSize: 12 }} />
            <YAxis width={36} allowDecimals={false} tickLine={false} axisLine={false} tick={{ fill: "var(--color-base-content)", fontSize: 12 }} />
            <Tooltip
              cursor={{ fill: "var(--color-base-200)" }}
              contentStyle={{ background: "var(--color-base-100)", border: "1px solid var(--color-base-300)", color: "var(--color-base-content)" }}
            />
            <Bar dataKey="done" name="crossed" stackId="a" fill="var(--color-success)" isAnimationActive={false} />
            <Bar dataKey="held" name="held" stackId="a" fill="var(--color-error)" isAnimationActive={false} radius={[3, 3, 0, 0]} />
          </BarChart>
        </ResponsiveContainer>
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
