import { useQuery } from "@tanstack/react-query";
import { File, Folder } from "lucide-react";

import { type Listing, api, query } from "../api/client";
import { Time, size } from "./format";
import { Shown } from "./states";

interface Props {
  place: string;
  folder: string;
  onFolder: (folder: string) => void;
  onFile?: (path: string) => void;
}

/** What lies in a folder; folders lead on, files can be picked. */
export function FolderList({ place, folder, onFolder, onFile }: Props) {
  const listing = useQuery({
    queryKey: ["browse", place, folder],
    queryFn: () => api.get<Listing>(`/places/${encodeURIComponent(place)}/browse${query({ folder })}`),
    retry: false,
  });
  const parts = folder.split("/").filter(Boolean);
  return (
    <>
      <nav aria-label="Folder" className="flex flex-wrap items-center gap-1 pb-2">
        <button type="button" className="btn btn-ghost btn-xs" onClick={() => onFolder("")}>
          {place}
        </button>
        {parts.map((part, at) => (
          <span key={parts.slice(0, at + 1).join("/")} className="flex items-center gap-1">
            <span aria-hidden>›</span>
            <button type="button" className="btn btn-ghost btn-xs" onClick={() => onFolder(parts.slice(0, at + 1).join("/"))}>
              {part}
            </button>
          </span>
        ))}
      </nav>
      <Shown query={listing}>
        {(data) =>
          data.entries.length === 0 ? (
            <p className="panel quiet px-4 py-6">This folder is empty.</p>
          ) : (
            <div className="panel overflow-x-auto">
              <table className="table-sm table">
                <caption className="sr-only">What lies in {folder || place}</caption>
                <thead>
                  <tr>
                    <th scope="col">name</th>
                    <th scope="col">size</th>
                    <th scope="col">modified</th>
                  </tr>
                </thead>
                <tbody>
                  {data.entries.map((entry) => (
                    <tr key={entry.path}>
                      <td className="[overflow-wrap:anywhere]">
                        {entry.kind === "folder" ? (
                          <button type="button" className="plain file inline-flex items-center gap-2 text-left" onClick={() => onFolder(entry.path.slice(place.length + 2))}>
                            <Folder className="size-4 shrink-0" aria-label="folder" /> {entry.name}
                          </button>
                        ) : onFile && entry.kind === "file" ? (
                          <button type="button" className="link file text-left" onClick={() => onFile(entry.path)}>
                            {entry.name}
                          </button>
                        ) : (
                          <span className="file inline-flex items-center gap-2">
                            <File className="size-4 shrink-0 opacity-60" aria-hidden /> {entry.name}
                          </span>
                        )}
                      </td>
                      <td className="whitespace-nowrap">{entry.kind === "file" ? size(entry.size) : entry.kind}</td>
                      <td className="quiet whitespace-nowrap">
                        <Time at={entry.modified} />
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
              {data.more && <p className="quiet px-4 py-2">There is more; only the first 2,000 entries are shown.</p>}
            </div>
          )
        }
      </Shown>
    </>
  );
}
