import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { ArrowLeft, ArrowRight } from "lucide-react";
import { useEffect, useId, useState } from "react";
import { Link, useSearchParams } from "react-router";

import { type ByHand, type Place, api, told } from "../../shared/api/client";
import { placesQuery } from "../../shared/api/status";
import { Crumbs } from "../../shared/ui/Crumbs";
import { FolderList } from "../../shared/ui/FolderList";
import { capital, plural } from "../../shared/ui/format";
import { Empty, Shown } from "../../shared/ui/states";

/** Both lists are looked at again so long after something was begun: most of it is done by then. */
const LOOK_AGAIN_MS = [800, 3000, 10_000];

type Bank = "near" | "far";

interface Ends {
  place: string;
  folder: string;
}

const across = (bank: Bank): Bank => (bank === "near" ? "far" : "near");

/** What is open on both banks, kept in the address so that it can be sent as a link. */
function useEnds(places: Place[]) {
  const [search, setSearch] = useSearchParams();
  const end = (bank: Bank, other: number): Ends => ({
    place: search.get(bank) ?? places[Math.min(other, places.length - 1)]?.name ?? "",
    folder: search.get(`${bank}-folder`) ?? "",
  });
  const ends: Record<Bank, Ends> = { near: end("near", 0), far: end("far", 1) };
  const open = (bank: Bank, { place, folder }: Ends) =>
    setSearch((now) => {
      now.set(bank, place);
      now.set(`${bank}-folder`, folder);
      return now;
    });
  return { ends, open };
}

function Side(props: {
  bank: Bank;
  places: Place[];
  end: Ends;
  picked: Set<string>;
  onOpen: (end: Ends) => void;
  onPick: (name: string) => void;
}) {
  const { bank, places, end, picked, onOpen, onPick } = props;
  const id = useId();
  return (
    <section aria-label={bank === "near" ? "Near bank" : "Far bank"} className="min-w-0">
      <label htmlFor={id} className="sr-only">
        {bank === "near" ? "Place on the near bank" : "Place on the far bank"}
      </label>
      <select id={id} className="select mb-2 w-full" value={end.place} onChange={(event) => onOpen({ place: event.target.value, folder: "" })}>
        {places.map((place) => (
          <option key={place.name} value={place.name}>
            {place.name} ({place.kind}
            {place.state === "away" ? ", not reachable" : ""})
          </option>
        ))}
      </select>
      <FolderList
        key={end.place}
        place={end.place}
        folder={end.folder}
        onFolder={(folder) => onOpen({ place: end.place, folder })}
        picked={picked}
        onPick={onPick}
      />
    </section>
  );
}

interface Asked {
  from: Bank;
  move: boolean;
}

function Crossing({ count, from, busy, onAsk }: { count: number; from: Bank; busy: boolean; onAsk: (asked: Asked) => void }) {
  const Arrow = from === "near" ? ArrowRight : ArrowLeft;
  const way = from === "near" ? "to the far bank" : "to the near bank";
  return (
    <>
      {[false, true].map((move) => (
        <button
          key={String(move)}
          type="button"
          className={`btn btn-sm ${move ? "" : "btn-primary"}`}
          disabled={count === 0 || busy}
          onClick={() => onAsk({ from, move })}
          aria-label={`${move ? "Move" : "Copy"} ${way}`}
        >
          {move ? "Move" : "Copy"} <Arrow className="size-4 max-lg:rotate-90" aria-hidden />
        </button>
      ))}
    </>
  );
}

function Both({ places }: { places: Place[] }) {
  const client = useQueryClient();
  const { ends, open } = useEnds(places);
  const [picked, setPicked] = useState<Record<Bank, Set<string>>>({ near: new Set(), far: new Set() });
  const [exists, setExists] = useState<(typeof choices)[number]>("refuse");
  const pick = (bank: Bank, name: string) =>
    setPicked((now) => {
      const names = new Set(now[bank]);
      if (!names.delete(name)) names.add(name);
      return { ...now, [bank]: names };
    });
  const begin = useMutation({
    mutationFn: ({ from, move }: Asked) => {
      const [source, target] = [ends[from], ends[across(from)]];
      const asked: ByHand = {
        from: `${source.place}:/${source.folder}`,
        names: [...picked[from]],
        to: `${target.place}:/${target.folder}`,
        move,
        exists,
      };
      return told(api.POST("/api/v1/by-hand", { body: asked }));
    },
    onSuccess: (_, { from }) => setPicked((now) => ({ ...now, [from]: new Set() })),
  });
  const begun = begin.data;
  useEffect(() => {
    if (!begun) return;
    const timers = LOOK_AGAIN_MS.map((after) => window.setTimeout(() => void client.invalidateQueries({ queryKey: ["browse"] }), after));
    return () => timers.forEach((timer) => window.clearTimeout(timer));
  }, [begun, client]);
  const side = (bank: Bank) => (
    <Side
      bank={bank}
      places={places}
      end={ends[bank]}
      picked={picked[bank]}
      onOpen={(end) => {
        setPicked((now) => ({ ...now, [bank]: new Set() }));
        open(bank, end);
      }}
      onPick={(name) => pick(bank, name)}
    />
  );
  return (
    <div className="grid items-start gap-4 lg:grid-cols-[1fr_10rem_1fr]">
      {side("near")}
      <div className="grid grid-cols-2 gap-2 lg:grid-cols-1 lg:pt-24">
        <Crossing count={picked.near.size} from="near" busy={begin.isPending} onAsk={begin.mutate} />
        <Crossing count={picked.far.size} from="far" busy={begin.isPending} onAsk={begin.mutate} />
        <label className="col-span-full grid gap-1 pt-2 text-sm">
          If the name is taken
          <select className="select select-sm w-full" value={exists} onChange={(event) => setExists(choices.find((choice) => choice === event.target.value) ?? "refuse")}>
            <option value="refuse">hold the file</option>
            <option value="keep-both">keep both</option>
            <option value="replace">replace</option>
            <option value="skip-same">skip if the same</option>
          </select>
        </label>
        {begin.error && (
          <p role="alert" className="text-error text-sm [overflow-wrap:anywhere]">
            {begin.error.message}
          </p>
        )}
        {begun && (
          <output className="text-sm">
            {capital(plural(begun.files, "file is", "files are"))} on the way.{" "}
            {begun.first && (
              <Link to={begun.files === 1 ? `/runs/${begun.first}` : "/runs"} className="link">
                See {begun.files === 1 ? "its run" : "the runs"}
              </Link>
            )}
            {begun.more && " There are more files in it; do it again when these are done."}
          </output>
        )}
      </div>
      {side("far")}
    </div>
  );
}

/** What is done when a name is taken. */
const choices = ["refuse", "keep-both", "replace", "skip-same"] as const;

export function SideBySidePage() {
  return (
    <>
      <Crumbs to="/places" above="Places" here="side by side" />
      <h1 className="pb-3 text-2xl font-bold tracking-tight">Side by side</h1>
      <Shown query={useQuery(placesQuery)}>
        {(places) =>
          places.length === 0 ? (
            <Empty title="No place yet">
              <Link to="/places/new" className="link">
                Add the first one
              </Link>
              , then look at two of them here.
            </Empty>
          ) : (
            <Both places={places} />
          )
        }
      </Shown>
    </>
  );
}
