import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, told } from "../api/client";

/** Makes a folder on the very place, in the one that is open. */
export function NewFolder({ place, folder, onMade }: { place: string; folder: string; onMade: (folder: string) => void }) {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const make = useMutation({
    mutationFn: async () => {
      const made = [folder, name.trim()].filter(Boolean).join("/");
      await told(api.POST("/api/v1/places/{name}/folders", { params: { path: { name: place } }, body: { folder: made } }));
      return made;
    },
    onSuccess: async (made) => {
      await client.invalidateQueries({ queryKey: ["browse", place] });
      onMade(made);
    },
  });
  return (
    <div className="grid gap-1 pt-3">
      <div className="flex flex-wrap items-center gap-2">
        <input className="input input-sm file w-60" aria-label="Name of a new folder" placeholder="name of a new folder" value={name} onChange={(event) => setName(event.target.value)} />
        <button type="button" className="btn btn-sm" disabled={name.trim() === "" || make.isPending} onClick={() => make.mutate()}>
          Make it {folder ? `in “${folder}”` : "here"}
        </button>
      </div>
      {make.error && (
        <p role="alert" className="text-error text-sm">
          {make.error.message}
        </p>
      )}
    </div>
  );
}
