import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";

import { ApiError, type Schemas, api, told } from "../../shared/api/client";
import { SectionEditor } from "../../shared/section/SectionEditor";
import { SectionOf, fieldsOfKind } from "../../shared/section/SectionOf";
import { Crumbs } from "../../shared/ui/Crumbs";
import { May } from "../../shared/ui/May";
import { Time } from "../../shared/ui/format";
import { Failure, Shown } from "../../shared/ui/states";
import { Exchanged } from "./Exchanged";
import { Password } from "./Password";
import { accountQuery, receptionQuery, visitsQuery } from "./queries";

type Account = Schemas["Account"];

function Part({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section aria-label={title}>
      <h2 className="pb-2 font-semibold">{title}</h2>
      <div className="panel">{children}</div>
    </section>
  );
}

function Folders({ account }: { account: Account }) {
  return (
    <Part title="What it sees">
      <p className="quiet px-4 pt-2 text-sm [overflow-wrap:anywhere]">Its root is {account.root}.</p>
      {account.folders.map((one) => (
        <p key={one.folder} className="flex flex-wrap justify-between gap-x-4 px-4 py-2">
          <span className="file [overflow-wrap:anywhere]">{one.folder || "the root"}</span>
          <span>
            {one.may}
            {one.removes && ", and remove"}
          </span>
        </p>
      ))}
    </Part>
  );
}

function Keys({ account }: { account: Account }) {
  return (
    <Part title="Public keys">
      {account.keys.length === 0 && <p className="quiet px-4 py-3">No key opens it.</p>}
      {account.keys.map((key) => (
        <p key={key.fingerprint} className="px-4 py-2">
          <span className="font-semibold">{key.comment || key.kind}</span> <span className="quiet">{key.kind}</span>
          <span className="file quiet block text-xs [overflow-wrap:anywhere]">{key.fingerprint}</span>
        </p>
      ))}
    </Part>
  );
}

function Visits({ name }: { name: string }) {
  const client = useQueryClient();
  const end = useMutation({
    mutationFn: async (id: number) => {
      try {
        await told(api.DELETE("/api/v1/visits/{id}", { params: { path: { id } } }));
      } catch (error) {
        // It ended by itself meanwhile.
        if (!(error instanceof ApiError && error.problem.status === 404)) throw error;
      }
    },
    onSettled: () => client.invalidateQueries({ queryKey: ["live"] }),
  });
  return (
    <Part title="Visits">
      {end.error && <Failure error={end.error} />}
      <Shown query={useQuery(visitsQuery(name))}>
        {(list) =>
          list.length === 0 ? (
            <p className="quiet px-4 py-3">Nobody came yet.</p>
          ) : (
            list.map((one) => (
              <p key={one.id} className="flex flex-wrap items-center gap-x-4 px-4 py-2">
                <Time at={one.began} />
                <span className="quiet min-w-0 flex-1 text-sm [overflow-wrap:anywhere]">
                  from {one.address} by {one.way}, with {one.how}
                </span>
                {!one.ended && (
                  <>
                    <span className="badge badge-soft badge-success">here</span>
                    <May as="operator">
                      <button type="button" className="btn btn-ghost btn-xs" aria-label={`Send visit ${one.id} away`} disabled={end.isPending} onClick={() => end.mutate(one.id)}>
                        Send away
                      </button>
                    </May>
                  </>
                )}
              </p>
            ))
          )
        }
      </Shown>
    </Part>
  );
}

/** What a partner is told, to come. */
function HowToCome({ account }: { account: Account }) {
  return (
    <Part title="What to tell the partner">
      <Shown query={useQuery(receptionQuery)}>
        {(reception) =>
          reception.sftp ? (
            <div className="grid gap-1 px-4 py-3">
              <p className="[overflow-wrap:anywhere]">
                SFTP, user <b>{account.name}</b>, port {reception.sftp.split(":").at(-1)} of this machine.
              </p>
              {reception.host_keys.map((key) => (
                <p key={key.fingerprint} className="text-sm [overflow-wrap:anywhere]">
                  <span className="quiet">host key {key.kind}</span> <span className="file">{key.fingerprint}</span>
                  {key.next && <span className="quiet"> (prepared, not shown yet)</span>}
                </p>
              ))}
            </div>
          ) : (
            <p className="quiet px-4 py-3">Nobody can come yet: the service does not listen for SFTP. Start it with --sftp ADDRESS.</p>
          )
        }
      </Shown>
    </Part>
  );
}

function One({ account }: { account: Account }) {
  return (
    <div className="grid grid-cols-1 gap-5">
      <div>
        <Crumbs to={`/partners/${account.partner}`} above={account.partner} here={account.name} />
        <h1 className="text-2xl font-bold tracking-tight">{account.title}</h1>
        {account.note && <p className="max-w-prose pt-1">{account.note}</p>}
        <p className="quiet pt-1">
          An account of{" "}
          <Link to={`/partners/${account.partner}`} className="link">
            {account.partner}
          </Link>
          {account.until && `, good until ${account.until}`}
          {account.from.length > 0 && `, only from ${account.from.join(", ")}`}.
        </p>
      </div>
      <div className="grid items-start gap-5 lg:grid-cols-2">
        <Folders account={account} />
        <HowToCome account={account} />
        <Keys account={account} />
        <Part title="Password">
          <Password account={account} />
        </Part>
      </div>
      <Part title="What was exchanged">
        <Exchanged of={{ account: account.name }} />
      </Part>
      <Visits name={account.name} />
      <section aria-label="As it is arranged">
        <h2 className="pb-2 font-semibold">As it is arranged</h2>
        <SectionOf kind="account" name={account.name} />
      </section>
    </div>
  );
}

export function AccountPage() {
  const { name = "" } = useParams();
  return <Shown query={useQuery(accountQuery(name))}>{(account) => <One key={account.name} account={account} />}</Shown>;
}

export function NewAccountPage() {
  const navigate = useNavigate();
  const [search] = useSearchParams();
  const partner = search.get("partner") ?? "";
  const begun = `[account.${partner || "new-account"}]\n${partner ? `partner = "${partner}"\n` : ""}may = "hand-in"\n`;
  return (
    <div className="grid max-w-4xl gap-4">
      <div>
        <Crumbs to={partner ? `/partners/${partner}` : "/partners"} above={partner || "Partners"} here="new account" />
        <h1 className="text-2xl font-bold tracking-tight">Add an account</h1>
        <p className="quiet pt-1">With it a partner signs in at our own server, hands files in and collects them. It sees its root and nothing else.</p>
      </div>
      <SectionEditor
        kind="account"
        name=""
        text={begun}
        version={undefined}
        fields={fieldsOfKind("account")}
        onDone={(name) => void navigate(`/accounts/${name}`)}
      />
    </div>
  );
}
