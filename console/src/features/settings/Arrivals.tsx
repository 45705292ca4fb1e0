import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { type Schemas, api, told } from "../../shared/api/client";
import { Time } from "../../shared/ui/format";
import { Shown } from "../../shared/ui/states";
import { arrivalsKeptQuery } from "./queries";
import { May } from "../../shared/ui/May";

function Bounds({ kept }: { kept: Schemas["ArrivalsKept"] }) {
  const client = useQueryClient();
  const [days, setDays] = useState(String(kept.days));
  const [most, setMost] = useState(String(kept.most));
  const put = useMutation({
    mutationFn: () => told(api.PUT("/api/v1/arrivals/kept", { body: { days: Number(days), most: Number(most) } })),
    onSettled: () => client.invalidateQueries({ queryKey: ["live"] }),
  });
  const isChanged = days !== String(kept.days) || most !== String(kept.most);
  return (
    <form
      className="flex flex-wrap items-center gap-3 px-4 py-3"
      onSubmit={(event) => {
        event.preventDefault();
        put.mutate();
      }}
    >
      <label className="flex items-center gap-2">
        for
        <input className="input input-sm w-20" type="number" min={1} max={3650} required aria-label="Days that arrivals are kept" value={days} onChange={(event) => setDays(event.target.value)} />
        days
      </label>
      <label className="flex items-center gap-2">
        and
        <input className="input input-sm w-28" type="number" min={1} max={5000000} required aria-label="Arrivals that are kept at most" value={most} onChange={(event) => setMost(event.target.value)} />
        files at most
      </label>
      <May as="owner">
        <button type="submit" className="btn btn-sm" disabled={!isChanged || put.isPending}>
          Keep so
        </button>
      </May>
      <span className="quiet text-sm">
        {kept.count.toLocaleString("en-GB")} on record
        {kept.since && (
          <>
            , the oldest from <Time at={kept.since} />
          </>
        )}
        . What lies beyond is forgotten.
      </span>
      {put.error && (
        <p role="alert" className="text-error w-full">
          {put.error.message}
        </p>
      )}
    </form>
  );
}

/** How much of what came to watched folders stays on record. */
export function Arrivals() {
  return <Shown query={useQuery(arrivalsKeptQuery)}>{(kept) => <Bounds key={`${kept.days} ${kept.most}`} kept={kept} />}</Shown>;
}
