import { CalendarClock, TriangleAlert } from "lucide-react";

import type { Warning } from "../api/client";
import { day } from "./format";

function when({ days, until }: Warning): string {
  if (!until) return "";
  if (days === 0) return ` expired on ${day(until)}`;
  return ` expires ${days === 1 ? "within a day" : `within ${days} days`}, on ${day(until)}`;
}

/** Something that expires soon, and what to do. */
export function WarningLine({ warning }: { warning: Warning }) {
  const Sign = warning.until ? CalendarClock : TriangleAlert;
  return (
    <p className="flex items-start gap-2 pt-1 text-sm">
      <Sign className={`mt-0.5 size-4 shrink-0 ${warning.days <= 1 ? "text-error" : "text-warning"}`} aria-hidden />
      <span className="[overflow-wrap:anywhere]">
        <strong>
          {warning.what}
          {when(warning)}.
        </strong>{" "}
        {warning.remedy}
      </span>
    </p>
  );
}
