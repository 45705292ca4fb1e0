import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { type Schemas, api, told } from "../api/client";
import { placesQuery } from "../api/status";
import { cameQuery } from "../rehearse/queries";
import { Dialog } from "./Dialog";
import { FolderList } from "./FolderList";
import { Time, size, splitPath } from "./format";

/** A file to try something with; one that came is known by its number, though it may lie there no more. */
export type Sample = Schemas["SampleFile"] & { arrival?: number };

export const sampleOf = (one: Schemas["Arrival"]): Sample => ({ file: one.file, size: one.size, modified: one.modified, arrival: one.id });

interface Props {
  place: string | undefined;
  isOpen: boolean;
  /** Files that came and may be gone are to be had, too. */
  withCame?: boolean;
  onClose: () => void;
  onChoose: (file: Sample) => void;
}

/** A file that lies there, picked by going there. */
export function ChooseFile({ place: begun, isOpen, withCame = false, onClose, onChoose }: Props) {
  const places = useQuery(placesQuery);
  const [picked, setPlace] = useState<string>();
  const [folder, setFolder] = useState("");
  const [failed, setFailed] = useState("");
  const place = picked ?? begun ?? places.data?.[0]?.name;
  const choose = async (file: string) => {
    try {
      const seen = await told(api.GET("/api/v1/explain", { params: { query: { file } } }));
      onChoose({ file, size: seen.size ?? 0, modified: seen.modified ?? new Date().toISOString() });
    } catch (error) {
      setFailed(error instanceof Error ? error.message : String(error));
    }
  };
  return (
    <Dialog title="Try it with which file?" open={isOpen} onClose={onClose}>
      <label className="flex items-center gap-2 pb-2">
        Place
        <select
          className="select select-sm"
          value={place}
          onChange={(event) => {
            setPlace(event.target.value);
            setFolder("");
          }}
        >
          {places.data?.map(({ name }) => (
            <option key={name} value={name}>
              {name}
            </option>
          ))}
        </select>
      </label>
      {failed && (
        <p role="alert" className="text-error pb-2">
          {failed}
        </p>
      )}
      {place && <FolderList key={place} place={place} folder={folder} onFolder={setFolder} onFile={(file) => void choose(file)} />}
      {place && withCame && <Came place={place} folder={folder} onChoose={onChoose} />}
      <p className="pt-3">
        <button type="button" className="btn btn-sm" onClick={onClose}>
          Cancel
        </button>
      </p>
    </Dialog>
  );
}

/** How many files that came are offered. */
const OFFERED = 5;

/** The files that came to a folder last, wherever they are now. */
function Came({ place, folder, onChoose }: { place: string; folder: string; onChoose: (file: Sample) => void }) {
  const { data = [] } = useQuery(cameQuery(place, folder));
  if (data.length === 0) return null;
  return (
    <section aria-label="Files that came here last" className="pt-3">
      <h3 className="pb-1 font-semibold">Came here last, wherever it is now</h3>
      <ul className="grid gap-1 text-sm">
        {data.slice(0, OFFERED).map((one) => (
          <li key={one.id} className="[overflow-wrap:anywhere]">
            <button type="button" className="link file text-left" onClick={() => onChoose(sampleOf(one))}>
              {splitPath(one.file).name}
            </button>{" "}
            <span className="quiet">
              {size(one.size)}, seen <Time at={one.seen} />
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}
