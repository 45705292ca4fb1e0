import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";

import type { Partner } from "../../shared/api/client";
import { WarningLine } from "../../shared/ui/WarningLine";
import { plural } from "../../shared/ui/format";
import { Empty, Shown } from "../../shared/ui/states";
import { partnersQuery } from "./queries";
import { May } from "../../shared/ui/May";

function Row({ partner }: { partner: Partner }) {
  const person = partner.people[0];
  return (
    <li className="grid gap-x-6 gap-y-1 px-4 py-3 sm:grid-cols-[1fr_auto]">
      <div className="min-w-0">
        <Link to={`/partners/${partner.name}`} className="plain text-base font-semibold">
          {partner.title}
        </Link>
        <p className="quiet text-sm [overflow-wrap:anywhere]">
          {partner.delivery ? `Takes files ${partner.delivery}` : "Has no delivery form yet"}
        </p>
        {partner.warnings.map((warning) => (
          <WarningLine key={warning.what} warning={warning} />
        ))}
      </div>
      <div className="quiet text-sm sm:text-right">
        {person && <p>{[person.name, person.role].filter(Boolean).join(", ")}</p>}
        <p>{partner.rules.length === 0 ? "no rule delivers to it" : plural(partner.rules.length, "rule", "rules")}</p>
      </div>
    </li>
  );
}

export function PartnersPage() {
  return (
    <>
      <div className="flex flex-wrap items-center gap-4 pb-3">
        <h1 className="flex-1 text-2xl font-bold tracking-tight">Partners</h1>
        <May as="manager">
          <Link to="/partners/new" className="btn btn-sm btn-primary">
            Add a partner
          </Link>
        </May>
      </div>
      <Shown query={useQuery(partnersQuery)}>
        {(partners) =>
          partners.length === 0 ? (
            <Empty title="No partner yet">
              A partner is somebody you exchange files with: whom to call, which places and keys are theirs, and how they want what you deliver.{" "}
              <Link to="/partners/new" className="link">
                Add the first one
              </Link>
              .
            </Empty>
          ) : (
            <ul className="panel">
              {partners.map((partner) => (
                <Row key={partner.name} partner={partner} />
              ))}
            </ul>
          )
        }
      </Shown>
    </>
  );
}
