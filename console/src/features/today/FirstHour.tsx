import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link } from "react-router";

import { placesQuery } from "../../shared/api/status";
import { rulesQuery } from "../rules/queries";

interface Step {
  title: string;
  about: ReactNode;
  to: string;
  action: string;
  isDone: boolean;
}

/** What a new service needs, one thing after the other, until the first file crossed. */
export function FirstHour() {
  const places = useQuery(placesQuery).data;
  const rules = useQuery(rulesQuery).data;
  if (!places || !rules || rules.some(({ last }) => last)) return null;
  const rule = rules[0];
  const tried = places.filter(({ state }) => state === "well").length;
  const steps: Step[] = [
    {
      title: "Connect where files come from",
      about: "A folder, a server, a share, a bucket, a mailbox. It is tested at once, with the rights that the service has.",
      to: "/places/new",
      action: "Add a place",
      isDone: places.length > 0,
    },
    {
      title: "Connect where they go",
      about: places.length === 1 && tried === 0 ? `${places[0]?.name} was not reached yet: open it under Places to see why.` : "The same again, for the other end. If both ends are in one place, this one is done.",
      to: "/places/new",
      action: "Add another place",
      isDone: places.length > 1 || rules.length > 0,
    },
    {
      title: "Pick what is to happen",
      about: "Choose from ready arrangements, answer three questions, and try it on a file you pick: nothing is touched until you put it in force.",
      to: "/rules/new",
      action: "Choose an arrangement",
      isDone: rules.length > 0,
    },
    {
      title: "See the first file cross",
      about: rule ? (rule.on ? "The rule is on. Put a file where it looks, or run it now on one that lies there." : "The rule is off: switch it on, or run it now on one file.") : "Then it goes by itself, and every file is on record.",
      to: rule ? `/rules/${rule.name}` : "/rules",
      action: "Open the rule",
      isDone: false,
    },
  ];
  const next = steps.findIndex(({ isDone }) => !isDone);
  return (
    <section aria-label="First steps" className="panel">
      <h2 className="px-4 pt-3 pb-2 text-lg font-semibold">First steps</h2>
      <ol>
        {steps.map((step, at) => (
          <li key={step.title} className={`flex flex-wrap items-start gap-3 px-4 py-3 ${at > next ? "quiet" : ""}`} aria-current={at === next ? "step" : undefined}>
            <span className="w-6 text-center font-bold" aria-hidden>
              {step.isDone ? "✓" : at + 1}
            </span>
            <div className="min-w-0 flex-1">
              <p className="font-semibold">
                {step.title}
                {step.isDone && <span className="sr-only">: done</span>}
              </p>
              {!step.isDone && <p className="max-w-prose text-sm">{step.about}</p>}
            </div>
            {at === next && (
              <Link to={step.to} className="btn btn-primary btn-sm">
                {step.action}
              </Link>
            )}
          </li>
        ))}
      </ol>
    </section>
  );
}
