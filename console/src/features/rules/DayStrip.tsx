import type { RuleSummary } from "../../shared/api/client";

/** Two weeks at a glance: one bar a day, as high as it was busy. */
export function DayStrip({ days }: { days: RuleSummary["days"] }) {
  const most = Math.max(1, ...days.map((day) => day.done + day.held + day.other));
  const total = days.reduce((sum, day) => sum + day.done + day.held + day.other, 0);
  const held = days.reduce((sum, day) => sum + day.held, 0);
  return (
    <span className="day-strip" title={`${total} runs in two weeks, ${held} held`}>
      <span className="sr-only">
        {total} runs in two weeks, {held} held
      </span>
      {days.map((day) => {
        const count = day.done + day.held + day.other;
        return (
          <i
            key={day.day}
            data-held={day.held > 0}
            data-none={count === 0}
            style={{ height: `${count ? 4 + (count / most) * 16 : 2}px` }}
            title={`${day.day}: ${day.done} done, ${day.held} held, ${day.other} other`}
          />
        );
      })}
    </span>
  );
}
