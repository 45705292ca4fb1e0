import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link } from "react-router";

import { plural } from "../../shared/ui/format";
import { Shown } from "../../shared/ui/states";
import { Arrivals } from "./Arrivals";
import { Keys } from "./Keys";
import { OnTheNetwork } from "./OnTheNetwork";
import { Removed } from "./Removed";
import { Secrets } from "./Secrets";
import { calendarsQuery, databasesQuery } from "./queries";

function Part({ title, about, action, children }: { title: string; about: string; action?: ReactNode; children: ReactNode }) {
  return (
    <section aria-label={title} className="min-w-0">
      <div className="flex flex-wrap items-center gap-3 pb-2">
        <div className="min-w-0 flex-1">
          <h2 className="text-lg font-semibold">{title}</h2>
          <p className="quiet text-sm">{about}</p>
        </div>
        {action}
      </div>
      <div className="panel">{children}</div>
    </section>
  );
}

const none = (words: string) => <p className="quiet px-4 py-3">{words}</p>;

export function SettingsPage() {
  const calendars = useQuery(calendarsQuery);
  const databases = useQuery(databasesQuery);
  return (
    <div className="grid grid-cols-1 gap-7">
      <h1 className="text-2xl font-bold tracking-tight">Settings</h1>
      <Part title="Keys" about="OpenPGP keys: to whom files are encrypted, and who signed them.">
        <Keys />
      </Part>
      <Part title="Secrets" about="Passwords, passphrases and private keys. A value goes in and never comes out again.">
        <Secrets />
      </Part>
      <Part
        title="Calendars"
        about="When an office works."
        action={
          <Link to="/settings/calendars/new" className="btn btn-sm">
            Add a calendar
          </Link>
        }
      >
        <Shown query={calendars}>
          {(list) =>
            list.length === 0
              ? none("There is none: working days are Monday to Friday.")
              : list.map((one) => (
                  <p key={one.name} className="flex flex-wrap items-baseline gap-x-4 px-4 py-2">
                    <Link to={`/settings/calendars/${one.name}`} className="plain font-semibold">
                      {one.title}
                    </Link>
                    <span className="quiet text-sm">
                      {plural(one.off.length, "entry of days off", "entries of days off")}, {one.rules.length === 0 ? "no rule uses it" : `used by ${one.rules.join(", ")}`}
                    </span>
                  </p>
                ))
          }
        </Shown>
      </Part>
      <Part
        title="Databases"
        about="Where rows are loaded into and extracted from."
        action={
          <Link to="/settings/databases/new" className="btn btn-sm">
            Add a database
          </Link>
        }
      >
        <Shown query={databases}>
          {(list) =>
            list.length === 0
              ? none("There is none.")
              : list.map((one) => (
                  <p key={one.name} className="flex flex-wrap items-baseline gap-x-4 px-4 py-2">
                    <Link to={`/settings/databases/${one.name}`} className="plain font-semibold">
                      {one.title}
                    </Link>
                    <span className="file quiet text-sm [overflow-wrap:anywhere]">{one.address}</span>
                  </p>
                ))
          }
        </Shown>
      </Part>
      <Part title="Arrivals on record" about="What came to watched folders, taken or not: what rehearsals go over.">
        <Arrivals />
      </Part>
      <Part title="On the network" about="The certificate that this service shows to those who connect.">
        <OnTheNetwork />
      </Part>
      <Part title="Removed" about="Rules that were removed; each can be there again.">
        <Removed />
      </Part>
    </div>
  );
}
