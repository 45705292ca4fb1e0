import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link, useSearchParams } from "react-router";

import type { Schemas } from "../../shared/api/client";
import { ROLES, type Role, meQuery, waysQuery } from "../../shared/api/me";
import { Tabs } from "../../shared/ui/Tabs";
import { plural } from "../../shared/ui/format";
import { Shown } from "../../shared/ui/states";
import { Arrivals } from "./Arrivals";
import { Audit } from "./Audit";
import { Keys } from "./Keys";
import { OnTheNetwork } from "./OnTheNetwork";
import { Passkeys } from "./Passkeys";
import { People } from "./People";
import { Provider } from "./Provider";
import { Removed } from "./Removed";
import { Secrets } from "./Secrets";
import { Sessions } from "./Sessions";
import { Tokens } from "./Tokens";
import { Connected, Password, SecondFactor, Yourself } from "./You";
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

/** What rules need besides places and partners, and how the service is set up. */
function Setup() {
  const calendars = useQuery(calendarsQuery);
  const databases = useQuery(databasesQuery);
  return (
    <div className="grid grid-cols-1 gap-7">
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

/** Who may come, with what, and who did what. */
function Colleagues() {
  return (
    <div className="grid grid-cols-1 gap-7">
      <Part title="People" about="Who may sign in, and what each may do.">
        <People />
      </Part>
      <Part title="Provider" about="Who vouches for your people (OpenID Connect). It says who somebody is; who may come is arranged here.">
        <Provider />
      </Part>
      <Part title="Signed in" about="Browsers that are signed in now.">
        <Sessions all />
      </Part>
    </div>
  );
}

/** Whether the provider vouches for one, if there is one. */
function Vouched({ me }: { me: Schemas["Me"] }) {
  const { data: ways } = useQuery(waysQuery);
  if (!ways?.provider && !me.vouched) return null;
  return (
    <Part title={ways?.provider ?? "Provider"} about="Who vouches for you: you sign in there, and are signed in here.">
      <Connected me={me} />
    </Part>
  );
}

function You() {
  const { data: me } = useQuery(meQuery);
  return (
    <div className="grid grid-cols-1 gap-7">
      <Part title="You" about="Who you are here.">
        <Yourself />
      </Part>
      {me?.user && (
        <>
          <Part title="Password" about="What you sign in with.">
            <Password />
          </Part>
          <Part title="Second factor" about="A code of an app, asked for besides the password.">
            <SecondFactor me={me} />
          </Part>
          <Vouched me={me} />
          <Part title="Passkeys" about="A key that a device of yours holds: it signs you in without name, password or code.">
            <Passkeys />
          </Part>
        </>
      )}
      <Part title="Your browsers" about="Where you are signed in; a session ends by itself 12 hours after it was used last.">
        <Sessions all={false} />
      </Part>
      <Part title="Tokens" about="What programs and commands sign in with.">
        <Tokens />
      </Part>
    </div>
  );
}

const TABS = ["setup", "people", "audit", "you"] as const;
type Tab = (typeof TABS)[number];
const WORDS: Record<Tab, string> = { setup: "Setup", people: "People", audit: "Audit", you: "You" };
const NEEDS: Record<Tab, Role> = { setup: "viewer", people: "owner", audit: "manager", you: "viewer" };

export function SettingsPage() {
  const [asked, ask] = useSearchParams();
  const { data: me } = useQuery(meQuery);
  const seen = TABS.filter((one) => me && ROLES.indexOf(me.role) >= ROLES.indexOf(NEEDS[one]));
  const tab = seen.find((one) => one === asked.get("tab")) ?? "setup";
  return (
    <div className="grid grid-cols-1 gap-4">
      <h1 className="text-2xl font-bold tracking-tight">Settings</h1>
      <Tabs label="Parts of the settings" tabs={seen} words={WORDS} tab={tab} onTab={(one) => ask(one === "setup" ? {} : { tab: one })}>
        <div className="pt-4">
          {tab === "setup" && <Setup />}
          {tab === "people" && <Colleagues />}
          {tab === "audit" && (
            <Part title="Audit" about="Who changed or did what, and what came of it; kept for two years.">
              <Audit />
            </Part>
          )}
          {tab === "you" && <You />}
        </div>
      </Tabs>
    </div>
  );
}
