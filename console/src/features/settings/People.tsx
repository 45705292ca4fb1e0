import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { type Schemas, api, told } from "../../shared/api/client";
import { ROLES, ROLE_WORDS, type Role, meQuery } from "../../shared/api/me";
import { Told, Typed } from "../../shared/form/Typed";
import { Time, day, plural } from "../../shared/ui/format";
import { Failure, Shown } from "../../shared/ui/states";
import { RolePick } from "./RolePick";
import { usersQuery } from "./queries";

type User = Schemas["User"];
type Groups = User["groups"];

/** What somebody may do besides within groups of rules, places and twins. */
function Within({ user, onGroups }: { user: User; onGroups: (groups: Groups) => void }) {
  const [name, setName] = useState("");
  const [chosen, setRole] = useState<Role>("manager");
  // Only what is more than everywhere says anything.
  const more = ROLES.slice(ROLES.indexOf(user.role) + 1, ROLES.indexOf("owner"));
  const role = more.includes(chosen) ? chosen : more[0];
  if (!role) return <p className="quiet text-sm">As {user.role} she may act and arrange in every group already.</p>;
  return (
    <form
      className="flex flex-wrap items-center gap-2 text-sm"
      onSubmit={(event) => {
        event.preventDefault();
        onGroups({ ...user.groups, [name]: role });
        setName("");
      }}
    >
      {Object.entries(user.groups).map(([group, within]) => (
        <span key={group} className="badge badge-soft">
          {within} in <span className="file">{group}</span>
          <button type="button" aria-label={`Not ${within} in ${group} any more`} onClick={() => onGroups(Object.fromEntries(Object.entries(user.groups).filter(([one]) => one !== group)))}>
            ✕
          </button>
        </span>
      ))}
      <label className="flex items-center gap-2">
        In the group
        <input className="input input-xs file w-32" required pattern="[a-z0-9][a-z0-9_\\-]{0,63}" value={name} onChange={(event) => setName(event.target.value)} />
      </label>
      <select className="select select-xs w-auto" aria-label={`Role of ${user.name} in the group`} value={role} onChange={(event) => setRole(event.target.value === "manager" ? "manager" : "operator")}>
        {more.map((one) => (
          <option key={one}>{one}</option>
        ))}
      </select>
      <button type="submit" className="btn btn-xs">
        Give
      </button>
      <span className="quiet">A rule, a place or a twin says to which group it belongs.</span>
    </form>
  );
}

/** The link that was made for somebody: it is shown this once. */
function MadeLink({ name, link, onDone }: { name: string; link: Schemas["NewLink"]; onDone: () => void }) {
  const [copied, setCopied] = useState(false);
  return (
    <section aria-label="The new link" className="bg-base-200 grid gap-2 px-4 py-3">
      <p>
        Give <b>{name}</b> this link. By it she chooses her password; it opens once, until {day(link.until)}, and is not shown again.
      </p>
      <code className="file [overflow-wrap:anywhere]">{link.address}</code>
      <p className="flex gap-2">
        <button type="button" className="btn btn-sm" onClick={() => void navigator.clipboard.writeText(link.address).then(() => setCopied(true))}>
          {copied ? "Copied" : "Copy"}
        </button>
        <button type="button" className="btn btn-ghost btn-sm" onClick={onDone}>
          Done
        </button>
      </p>
    </section>
  );
}

const makeLink = (name: string) => told(api.POST("/api/v1/users/{name}/link", { params: { path: { name } } }));
const putUser = (name: string, title: string, role: Role, groups: Groups) => told(api.PUT("/api/v1/users/{name}", { params: { path: { name } }, body: { title, role, groups } }));

/** Lets a colleague in. */
function AddUser({ taken, onMade, onDone }: { taken: string[]; onMade: (name: string, link: Schemas["NewLink"]) => void; onDone: () => void }) {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const [title, setTitle] = useState("");
  const [role, setRole] = useState<Role>("operator");
  const isTaken = taken.includes(name);
  const add = useMutation({
    mutationFn: async () => {
      await putUser(name, title, role, {});
      return makeLink(name);
    },
    onSuccess: async (link) => {
      await client.invalidateQueries({ queryKey: ["live"] });
      onMade(name, link);
    },
  });
  return (
    <form
      className="grid gap-3 px-4 py-3 sm:grid-cols-2"
      onSubmit={(event) => {
        event.preventDefault();
        if (!isTaken) add.mutate();
      }}
    >
      <Typed label="Name" autoComplete="off" value={name} onChange={(typed) => setName(typed.toLowerCase())} hint="She signs in with it, and every record tells it: a-z, 0-9, - and _" />
      <Typed label="Called" autoComplete="off" value={title} onChange={setTitle} hint="As people call her: Ina Skerry" />
      <RolePick role={role} onRole={setRole} />
      <div className="sm:col-span-2">
        <Told error={isTaken ? new Error(`There is a user "${name}" already.`) : add.error} />
      </div>
      <p className="flex gap-2 sm:col-span-2">
        <button type="submit" className="btn btn-sm btn-primary" disabled={!name || isTaken || add.isPending}>
          Add and make a link
        </button>
        <button type="button" className="btn btn-ghost btn-sm" onClick={onDone}>
          Cancel
        </button>
      </p>
    </form>
  );
}

function UserRow({ user, onLink }: { user: User; onLink: (link: Schemas["NewLink"]) => void }) {
  const client = useQueryClient();
  const { data: me } = useQuery(meQuery);
  const [removing, setRemoving] = useState(false);
  const [grouping, setGrouping] = useState(false);
  const change = useMutation({ mutationFn: (act: () => Promise<unknown>) => act(), onSettled: () => client.invalidateQueries({ queryKey: ["live"] }) });
  const { name } = user;
  const params = { params: { path: { name } } };
  const own = me?.user === name;
  return (
    <div className="grid gap-1 px-4 py-2">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1">
        <span className="min-w-0">
          <b className="[overflow-wrap:anywhere]">{user.title}</b> <span className="file quiet text-sm">{name}</span>
        </span>
        <span className="quiet w-full min-w-0 text-sm sm:w-auto sm:flex-1">
          {!user.password ? "has not come yet" : user.seen ? <>signed in <Time at={user.seen} /></> : "has a password"}
          {user.code && " · second factor"}
          {Object.entries(user.groups).map(([group, role]) => ` · ${role} in ${group}`)}
          {user.passkeys > 0 && ` · ${plural(user.passkeys, "passkey", "passkeys")}`}
        </span>
        <select
          className="select select-sm w-auto"
          aria-label={`Role of ${name}`}
          value={user.role}
          onChange={(event) => {
            const role = ROLES.find((one) => one === event.target.value);
            if (role) change.mutate(() => putUser(name, user.title, role, user.groups));
          }}
        >
          {ROLES.map((role) => (
            <option key={role} value={role}>
              {role}
            </option>
          ))}
        </select>
        <button type="button" className="btn btn-xs" aria-expanded={grouping} aria-label={`Groups of ${name}`} onClick={() => setGrouping(!grouping)}>
          Groups
        </button>
        <button type="button" className="btn btn-xs" aria-label={`New link for ${name}`} onClick={() => change.mutate(async () => onLink(await makeLink(name)))}>
          New link
        </button>
        {(user.code || user.passkeys > 0) && !own && (
          <button type="button" className="btn btn-xs" onClick={() => change.mutate(() => told(api.DELETE("/api/v1/users/{name}/proofs", params)))}>
            Take second factor and passkeys away
          </button>
        )}
        {!own && (
          <button type="button" className="btn btn-ghost btn-xs" aria-label={`Remove ${name}`} onClick={() => setRemoving(true)}>
            Remove
          </button>
        )}
      </div>
      {grouping && <Within user={user} onGroups={(groups) => change.mutate(() => putUser(name, user.title, user.role, groups))} />}
      {removing && (
        <p className="flex flex-wrap items-center gap-2 text-sm">
          Remove {user.title}? Her sessions and tokens end at once; what she did stays on record.
          <button type="button" className="btn btn-error btn-xs" disabled={change.isPending} onClick={() => change.mutate(() => told(api.DELETE("/api/v1/users/{name}", params)))}>
            Remove
          </button>
          <button type="button" className="btn btn-ghost btn-xs" onClick={() => setRemoving(false)}>
            Keep
          </button>
        </p>
      )}
      {change.error && <Failure error={change.error} />}
    </div>
  );
}

/** Everybody who may sign in, and what each may do. */
export function People() {
  const users = useQuery(usersQuery);
  const [adding, setAdding] = useState(false);
  const [made, setMade] = useState<{ name: string; link: Schemas["NewLink"] }>();
  return (
    <Shown query={users}>
      {(list) => (
        <>
          {list.length === 0 && <p className="quiet px-4 py-3">Nobody has a name here yet: only whoever may use the service's own machine can come. Add yourself first, as an owner.</p>}
          {list.map((user) => (
            <UserRow key={user.name} user={user} onLink={(link) => setMade({ name: user.name, link })} />
          ))}
          {made && <MadeLink {...made} onDone={() => setMade(undefined)} />}
          {adding ? (
            <AddUser
              taken={list.map((user) => user.name)}
              onMade={(name, link) => {
                setAdding(false);
                setMade({ name, link });
              }}
              onDone={() => setAdding(false)}
            />
          ) : (
            <p className="flex flex-wrap items-center gap-x-4 gap-y-1 px-4 py-3">
              <button type="button" className="btn btn-sm" onClick={() => setAdding(true)}>
                Add somebody
              </button>
              <span className="quiet text-sm">{ROLES.map((role) => `${role}: ${ROLE_WORDS[role]}`).join(" · ")}</span>
            </p>
          )}
        </>
      )}
    </Shown>
  );
}
