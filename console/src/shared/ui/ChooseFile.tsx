import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { type Schemas, api, told } from "../api/client";
import { placesQuery } from "../api/status";
import { Dialog } from "./Dialog";
import { FolderList } from "./FolderList";

export type SampleFile = Schemas["SampleFile"];

/** A file that lies there, picked by going there. */
export function ChooseFile({ place: begun, isOpen, onClose, onChoose }: { place: string | undefined; isOpen: boolean; onClose: () => void; onChoose: (file: SampleFile) => void }) {
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
      <p className="pt-3">
        <button type="button" className="btn btn-sm" onClick={onClose}>
          Cancel
        </button>
      </p>
    </Dialog>
  );
}
