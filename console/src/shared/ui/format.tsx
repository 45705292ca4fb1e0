import { useEffect, useState } from "react";

const UNITS = ["B", "kB", "MB", "GB", "TB"];

export function size(bytes: number): string {
  let value = bytes;
  let unit = 0;
  while (value >= 999.5 && unit < UNITS.length - 1) {
    value /= 1000;
    unit += 1;
  }
  return `${unit === 0 || value >= 100 ? Math.round(value) : value.toFixed(1)} ${UNITS[unit]}`;
}

const clock = new Intl.DateTimeFormat(undefined, { hour: "2-digit", minute: "2-digit", second: "2-digit", hour12: false });
const date = new Intl.DateTimeFormat(undefined, { day: "numeric", month: "short", hour: "2-digit", minute: "2-digit", hour12: false });
const whole = new Intl.DateTimeFormat(undefined, { dateStyle: "full", timeStyle: "long" });

const calendar = new Intl.DateTimeFormat(undefined, { day: "numeric", month: "long", year: "numeric" });

/** A day, for what lasts longer than hours. */
export const day = (at: string): string => calendar.format(new Date(at));

function words(at: Date, now: Date): string {
  const seconds = (now.getTime() - at.getTime()) / 1000;
  if (seconds >= 0 && seconds < 10) return "just now";
  if (seconds >= 0 && seconds < 60) return `${Math.floor(seconds)} s ago`;
  if (seconds >= 0 && seconds < 3600) return `${Math.floor(seconds / 60)} min ago`;
  return at.toDateString() === now.toDateString() ? clock.format(at) : date.format(at);
}

/** How often what is told relative to now is told anew. */
const TICK_MS = 5000;

function useNow(): Date {
  const [now, setNow] = useState(() => new Date());
  useEffect(() => {
    const timer = window.setInterval(() => setNow(new Date()), TICK_MS);
    return () => window.clearInterval(timer);
  }, []);
  return now;
}

/** A time that is over: how long ago where it is fresh, the whole on hover. */
export function Time({ at }: { at: string | null | undefined }) {
  const now = useNow();
  if (!at) return <span>–</span>;
  const when = new Date(at);
  // What happened after the last tick happened just now.
  return (
    <time dateTime={at} title={whole.format(when)}>
      {words(when, when > now ? when : now)}
    </time>
  );
}

/** A time to come: how long until then where it is soon, the whole on hover. */
export function Due({ at }: { at: string }) {
  const now = useNow();
  const when = new Date(at);
  const seconds = (when.getTime() - now.getTime()) / 1000;
  return (
    <time dateTime={at} title={whole.format(when)}>
      {ahead(seconds) ?? words(when, now)}
    </time>
  );
}

function ahead(seconds: number): string | null {
  if (seconds < 1) return "now";
  if (seconds < 60) return `in ${Math.floor(seconds)} s`;
  return seconds < 3600 ? `in ${Math.floor(seconds / 60)} min` : null;
}

/** A clock time, for tables of attempts. */
export function Clock({ at }: { at: string | null | undefined }) {
  if (!at) return <span>–</span>;
  const when = new Date(at);
  return (
    <time dateTime={at} title={whole.format(when)}>
      {clock.format(when)}
    </time>
  );
}

/** A path with its name made plain: `office › assays/out`. */
export function splitPath(path: string): { place: string; folder: string; name: string } {
  const colon = path.indexOf(":/");
  const place = colon >= 0 ? path.slice(0, colon) : "";
  const rest = colon >= 0 ? path.slice(colon + 2) : path;
  const slash = rest.lastIndexOf("/");
  return { place, folder: slash >= 0 ? rest.slice(0, slash) : "", name: rest.slice(slash + 1) };
}

export function where(path: string): string {
  const { place, folder } = splitPath(path);
  return [place, folder].filter(Boolean).join(" › ");
}

export const plural = (count: number, one: string, many: string): string => (count === 1 ? `one ${one}` : `${count} ${many}`);

export const capital = (text: string): string => text.charAt(0).toUpperCase() + text.slice(1);
