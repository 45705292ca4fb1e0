import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";

import { type Place, api, told } from "../../shared/api/client";
import { placesQuery } from "../../shared/api/status";
import { Crumbs } from "../../shared/ui/Crumbs";
import { SectionOf } from "../../shared/section/SectionOf";
import { FolderList } from "../../shared/ui/FolderList";
import { Empty, Shown, StateBadge } from "../../shared/ui/states";
import { DayOfPlace } from "./DayOfPlace";
import { SignIn } from "./SignIn";
import { Steps } from "./Steps";
import { May } from "../../shared/ui/May";

function Test({ place, atOnce }: { place: Place; atOnce: boolean }) {
  const client = useQueryClient();
  const [write, setWrite] = useState(false);
  const test = useMutation({
    mutationFn: (confirm?: string) => told(api.POST("/api/v1/places/{name}/test", { params: { path: { name: place.name } }, body: { write, confirm: confirm ?? null } })),
    onSettled: () => client.invalidateQueries({ queryKey: ["live"] }),
  });
  const { mutate } = test;
  useEffect(() => {
    if (atOnce) mutate(undefined);
  }, [atOnce, mutate]);
  const tested = test.data;
  return (
    <section className="panel" aria-label="Test">
      <div className="flex flex-wrap items-center gap-4 px-4 py-3">
        <May as="operator">
          <button type="button" className="btn btn-sm btn-primary" disabled={test.isPending} onClick={() => test.mutate(undefined)}>
            {test.isPending ? "Testing…" : "Test"}
          </button>
        </May>
        {place.kind !== "mailbox" && (
          <label className="flex items-center gap-2 text-sm">
            <input type="checkbox" className="checkbox checkbox-sm rounded-sm" checked={write} onChange={(event) => setWrite(event.target.checked)} />
            write a probe file too
          </label>
        )}
      </div>
      {test.error && (
        <p role="alert" className="text-error px-4 py-2">
          {test.error.message}
        </p>
      )}
      {tested && (
        <div className="px-4 py-3">
          <Steps steps={tested.steps} />
        </div>
      )}
      {tested?.identity && (
        <div className="px-4 py-3">
          <p>
            The server shows the {tested.identity.what} <span className="file [overflow-wrap:anywhere]">{tested.identity.fingerprint}</span>. Confirm it only if the partner names the same.
          </p>
          <button type="button" className="btn btn-sm mt-2" onClick={() => test.mutate(tested.identity?.fingerprint)}>
            Confirm this {tested.identity.what}
          </button>
        </div>
      )}
    </section>
  );
}

function One({ place }: { place: Place }) {
  const [search, setSearch] = useSearchParams();
  return (
    <div className="grid grid-cols-1 gap-4">
      <div>
        <Crumbs to="/places" above="Places" here={place.name} />
        <h1 className="flex items-center gap-3 text-2xl font-bold tracking-tight">
          {place.name} <StateBadge state={place.state} />
        </h1>
        <p className="file quiet [overflow-wrap:anywhere]">
          {place.kind} · {place.address}
        </p>
        {place.error && (
          <p className="max-w-3xl pt-2 [overflow-wrap:anywhere]" role="alert">
            {place.error}. {place.remedy}
          </p>
        )}
      </div>
      <div className="grid items-start gap-5 lg:grid-cols-[1fr_24rem]">
        <section aria-label="Browse" className="min-w-0">
          <FolderList explains place={place.name} folder={search.get("folder") ?? ""} onFolder={(folder) => setSearch(folder ? { folder } : {})} />
        </section>
        <div className="grid min-w-0 gap-4">
          {place.agreed && <SignIn place={place} />}
          <Test place={place} atOnce={search.get("test") === "now"} />
          <DayOfPlace place={place.name} />
          <section className="panel" aria-label="What uses it">
            <h2 className="px-4 pt-3 pb-1 text-sm font-semibold">What uses it</h2>
            {place.rules.length + place.twins.length === 0 && <p className="quiet px-4 py-3">No rule and no twin uses it.</p>}
            {[...place.rules.map((name) => ["rules", name]), ...place.twins.map((name) => ["twins", name])].map(([kind, name]) => (
              <p key={`${kind} ${name}`} className="flex justify-between gap-3 px-4 py-2">
                <Link to={`/${kind}/${name}`} className="plain">
                  {name}
                </Link>
                <span className="quiet text-sm">{kind === "twins" ? "twin" : "rule"}</span>
              </p>
            ))}
          </section>
        </div>
      </div>
      <section aria-label="As it is arranged">
        <h2 className="pb-2 font-semibold">As it is arranged</h2>
        <SectionOf kind="place" name={place.name} />
      </section>
    </div>
  );
}

export function PlacePage() {
  const { name } = useParams();
  return (
    <Shown query={useQuery(placesQuery)}>
      {(places) => {
        const place = places.find((one) => one.name === name);
        return place ? <One key={place.name} place={place} /> : <Empty title={`There is no place "${name}"`}>
            <Link to="/places" className="link">
              See all places
            </Link>
          </Empty>;
      }}
    </Shown>
  );
}
