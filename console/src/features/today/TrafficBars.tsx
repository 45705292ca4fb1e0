import { Bar, BarChart, ResponsiveContainer, Tooltip, XAxis, YAxis } from "recharts";

interface Row {
  name: string;
  done: number;
  held: number;
}

/** The bars of the day's traffic. */
export default function TrafficBars({ rows }: { rows: Row[] }) {
  return (
    <ResponsiveContainer width="100%" height="100%">
      <BarChart data={rows} accessibilityLayer={false} margin={{ top: 4, right: 4, bottom: 0, left: 0 }}>
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
  );
}
