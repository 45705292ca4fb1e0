import { useState } from "react";

interface Props {
  label: string;
  /** Days, and first and last of several: `2026-12-25`, `2026-12-28..2027-01-01`. */
  days: string[];
  onChange: (days: string[]) => void;
}

const two = (number: number): string => String(number).padStart(2, "0");
const written = (day: Date): string => `${day.getFullYear()}-${two(day.getMonth() + 1)}-${two(day.getDate())}`;
const later = (day: string, days: number): string => {
  const [year = 0, month = 1, date = 1] = day.split("-").map(Number);
  return written(new Date(year, month - 1, date + days));
};
const ends = (entry: string): [string, string] => {
  const [first = "", last = first] = entry.split("..").map((day) => day.trim());
  return [first, last];
};
const covers = (entry: string, day: string): boolean => {
  const [first, last] = ends(entry);
  return first <= day && day <= last;
};
const span = (first: string, last: string): string[] => (first > last ? [] : [first === last ? first : `${first}..${last}`]);

/** The days with one more, or one fewer: what covered it is left on both sides of it. */
export function toggled(days: string[], day: string): string[] {
  if (!days.some((entry) => covers(entry, day))) return [...days, day].toSorted();
  return days.flatMap((entry) => {
    if (!covers(entry, day)) return [entry];
    const [first, last] = ends(entry);
    return [...span(first, later(day, -1)), ...span(later(day, 1), last)];
  });
}

const monthName = new Intl.DateTimeFormat(undefined, { month: "long", year: "numeric" });
const dayName = new Intl.DateTimeFormat(undefined, { weekday: "long", day: "numeric", month: "long", year: "numeric" });
const WEEK = ["Mo", "Tu", "We", "Th", "Fr", "Sa", "Su"];

/** A month whose days are clicked on and off. */
export function Days({ label, days, onChange }: Props) {
  const [month, setMonth] = useState(() => new Date(new Date().getFullYear(), new Date().getMonth(), 1));
  const before = (month.getDay() + 6) % 7;
  const length = new Date(month.getFullYear(), month.getMonth() + 1, 0).getDate();
  const turn = (by: number) => setMonth(new Date(month.getFullYear(), month.getMonth() + by, 1));
  return (
    <fieldset className="grid w-fit gap-2">
      <legend className="sr-only">{label}, month by month</legend>
      <div className="flex items-center justify-between gap-2">
        <button type="button" className="btn btn-ghost btn-sm" aria-label="The month before" onClick={() => turn(-1)}>
          ←
        </button>
        <span className="font-semibold" aria-live="polite">
          {monthName.format(month)}
        </span>
        <button type="button" className="btn btn-ghost btn-sm" aria-label="The month after" onClick={() => turn(1)}>
          →
        </button>
      </div>
      <div className="grid grid-cols-7 gap-1 text-center text-sm">
        {WEEK.map((day) => (
          <span key={day} className="quiet" aria-hidden>
            {day}
          </span>
        ))}
        {Array.from({ length: before }, (_, at) => (
          <span key={`before ${at}`} />
        ))}
        {Array.from({ length }, (_, at) => {
          const date = new Date(month.getFullYear(), month.getMonth(), at + 1);
          const day = written(date);
          const isOff = days.some((entry) => covers(entry, day));
          return (
            <button
              key={day}
              type="button"
              aria-pressed={isOff}
              aria-label={`${dayName.format(date)}${isOff ? ", off" : ""}`}
              className={`size-9 rounded ${isOff ? "bg-accent text-accent-content font-semibold line-through" : "hover:bg-base-200"}`}
              onClick={() => onChange(toggled(days, day))}
            >
              {at + 1}
            </button>
          );
        })}
      </div>
    </fieldset>
  );
}
