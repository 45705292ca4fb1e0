import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link, useParams } from "react-router";

import type { Partner } from "../../shared/api/client";
import { Crumbs } from "../../shared/ui/Crumbs";
import { SectionOf } from "../../shared/section/SectionOf";
import { WarningLine } from "../../shared/ui/WarningLine";
import { day } from "../../shared/ui/format";
import { Empty, Shown, StateBadge } from "../../shared/ui/states";
import { May } from "../../shared/ui/May";
import { Exchanged } from "../accounts/Exchanged";
import { accountsQuery } from "../accounts/queries";
import { partnersQuery } from "./queries";

function Part({ title, none, children }: { title: string; none?: string | false; children: ReactNode }) {
  return (
    <section aria-label={title}>
      <h2 className="pb-2 font-semibold">{title}</h2>
      <div className="panel">{none ? <p className="quiet px-4 py-3">{none}</p> : children}</div>
    </section>
  );
}

function People({ partner }: { partner: Partner }) {
  return (
    <Part title="Whom to call" none={partner.people.length === 0 && "Nobody is on record."}>
      {partner.people.map((person) => (
        <p key={person.name + person.mail} className="px-4 py-2">
          <span className="font-semibold">{person.name}</span>
          {person.role && <span className="quiet">, {person.role}</span>}
          <span className="block text-sm">
            {person.mail && (
              <a className="link" href={`mailto:${person.mail}`}>
                {person.mail}
              </a>
            )}
            {person.mail && person.phone && " · "}
            {person.phone}
          </span>
        </p>
      ))}
    </Part>
  );
}

function Keys({ partner }: { partner: Partner }) {
  return (
    <Part title="Keys" none={partner.keys.length === 0 && "No key is on record."}>
      {partner.keys.map((key) => (
        <div key={key.name} className="px-4 py-2">
          <p className="flex flex-wrap items-baseline justify-between gap-x-4">
            <span className="font-semibold">{key.name}</span>
            {key.unfit ? <span className="text-error">✕ {key.unfit}</span> : <span className="quiet">{key.expires ? `good until ${day(key.expires)}` : "does not expire"}</span>}
          </p>
          {key.fingerprint && <p className="file quiet text-xs [overflow-wrap:anywhere]">{key.fingerprint}</p>}
        </div>
      ))}
    </Part>
  );
}

function Places({ partner }: { partner: Partner }) {
  return (
    <Part title="Places" none={partner.places.length === 0 && "No place is on record."}>
      {partner.places.map((place) => (
        <p key={place.name} className="flex flex-wrap items-center gap-x-4 px-4 py-2">
          <Link to={`/places/${place.name}`} className="plain font-semibold">
            {place.name}
          </Link>
          <StateBadge state={place.state} />
          <span className="file quiet w-full text-sm [overflow-wrap:anywhere]">{place.address}</span>
        </p>
      ))}
    </Part>
  );
}

function Accounts({ partner }: { partner: Partner }) {
  return (
    <section aria-label="Accounts">
      <h2 className="flex items-baseline justify-between gap-4 pb-2 font-semibold">
        Accounts at our own server
        <May as="manager">
          <Link to={`/accounts/new?partner=${partner.name}`} className="link font-normal">
            Add an account
          </Link>
        </May>
      </h2>
      <Shown query={useQuery(accountsQuery)}>
        {(accounts) => {
          const own = accounts.filter((one) => one.partner === partner.name);
          return (
            <div className="panel">
              {own.length === 0 && <p className="quiet px-4 py-3">It has no account: it cannot hand files in by itself.</p>}
              {own.map((one) => (
                <p key={one.name} className="flex flex-wrap items-center gap-x-4 px-4 py-2">
                  <Link to={`/accounts/${one.name}`} className="plain font-semibold">
                    {one.name}
                  </Link>
                  {one.here > 0 && <span className="badge badge-soft badge-success">here</span>}
                  <span className="file quiet w-full text-sm [overflow-wrap:anywhere]">{one.root}</span>
                </p>
              ))}
              {own.length > 0 && <Exchanged of={{ partner: partner.name }} />}
            </div>
          );
        }}
      </Shown>
    </section>
  );
}

function One({ partner }: { partner: Partner }) {
  return (
    <div className="grid grid-cols-1 gap-5">
      <div>
        <Crumbs to="/partners" above="Partners" here={partner.name} />
        <h1 className="text-2xl font-bold tracking-tight">{partner.title}</h1>
        {partner.note && <p className="max-w-prose pt-1">{partner.note}</p>}
        {partner.warnings.map((warning) => (
          <WarningLine key={warning.what} warning={warning} />
        ))}
      </div>
      <Part title="How it takes what is delivered" none={!partner.delivery && "It has no delivery form; a rule cannot deliver to it by name."}>
        <p className="px-4 py-3">{partner.delivery}</p>
      </Part>
      <div className="grid items-start gap-5 lg:grid-cols-3">
        <People partner={partner} />
        <Places partner={partner} />
        <Keys partner={partner} />
      </div>
      <Accounts partner={partner} />
      <Part title="Rules" none={partner.rules.length === 0 && "No rule delivers to it or uses one of its places."}>
        {partner.rules.map((rule) => (
          <p key={rule} className="px-4 py-2">
            <Link to={`/rules/${rule}`} className="plain">
              {rule}
            </Link>
          </p>
        ))}
      </Part>
      <section aria-label="As it is arranged">
        <h2 className="pb-2 font-semibold">As it is arranged</h2>
        <SectionOf kind="partner" name={partner.name} />
      </section>
    </div>
  );
}

export function PartnerPage() {
  const { name } = useParams();
  return (
    <Shown query={useQuery(partnersQuery)}>
      {(partners) => {
        const partner = partners.find((one) => one.name === name);
        return partner ? <One key={partner.name} partner={partner} /> : <Empty title={`There is no partner "${name}"`}>
            <Link to="/partners" className="link">
              See all partners
            </Link>
          </Empty>;
      }}
    </Shown>
  );
}
