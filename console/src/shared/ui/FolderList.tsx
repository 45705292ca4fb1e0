import { useInfiniteQuery } from "@tanstack/react-query";
import { File, Folder } from "lucide-react";

import { useEffect, useRef } from "react";
import { Link } from "react-router";

import { ApiError, api, told } from "../api/client";
import { Time, size } from "./format";
import { Shown } from "./states";

interface Props {
  place: string;
  folder: string;
  onFolder: (folder: string) => void;
  onFile?: (path: string) => void;
  /** Names that are ticked; with it, files and folders can be. */
  picked?: Set<string>;
  onPick?: (name: string) => void;
  /** Each file leads to what would happen to it. */
  explains?: boolean;
}

/** What lies in a folder; folders lead on, files can be picked. */
export function FolderList({ place, folder, onFolder, onFile, picked, onPick, explains = false }: Props) {
  const listing = useInfiniteQuery({
    queryKey: ["browse", place, folder],
    queryFn: ({ pageParam }) => told(api.GET("/api/v1/places/{name}/browse", { params: { path: { name: place }, query: { folder, page: pageParam } } })),
    initialPageParam: undefined as number | undefined,
    getNextPageParam: (page) => page.next ?? undefined,
    // The place tells a listing once: going through it again page by page would be another one.
    refetchInterval: false,
    refetchOnWindowFocus: false,
    staleTime: Number.POSITIVE_INFINITY,
    gcTime: 0,
    retry: false,
  });
  const { fetchNextPage, hasNextPage, isFetchingNextPage, refetch } = listing;
  const end = useRef<HTMLParagraphElement>(null);
  useEffect(() => {
    const mark = end.current;
    if (!mark || !hasNextPage || isFetchingNextPage || listing.isFetchNextPageError) return;
    const seen = new IntersectionObserver((marks) => {
      if (marks.some((one) => one.isIntersecting)) void fetchNextPage();
    });
    seen.observe(mark);
    return () => seen.disconnect();
  }, [fetchNextPage, hasNextPage, isFetchingNextPage, listing.isFetchNextPageError]);
  const givenUp = listing.error instanceof ApiError && listing.error.problem.status === 410;
  const parts = folder.split("/").filter(Boolean);
  return (
    <>
      <nav aria-label={`Where you are in ${place}`} className="flex flex-wrap items-center gap-1 pb-2">
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
      <Shown query={{ ...listing, data: listing.data?.pages.flatMap((page) => page.entries) }}>
        {(entries) => {
          const tellsWho = entries.some((entry) => entry.who);
          return entries.length === 0 ? (
            <p className="panel quiet px-4 py-6">This folder is empty.</p>
          ) : (
            <div className="panel overflow-x-auto">
              <table className="table-sm table">
                <caption className="sr-only">What lies in {folder || place}</caption>
                <thead>
                  <tr>
                    {picked && (
                      <th scope="col" className="w-8">
                        <span className="sr-only">picked</span>
                      </th>
                    )}
                    <th scope="col">name</th>
                    <th scope="col">size</th>
                    <th scope="col">modified</th>
                    {tellsWho && <th scope="col">who</th>}
                    {explains && (
                      <th scope="col">
                        <span className="sr-only">what would happen</span>
                      </th>
                    )}
                  </tr>
                </thead>
                <tbody>
                  {entries.map((entry) => (
                    <tr key={entry.path}>
                      {picked && (
                        <td>
                          {(entry.kind === "file" || entry.kind === "folder") && (
                            <input
                              type="checkbox"
                              className="checkbox checkbox-sm rounded-sm align-middle"
                              aria-label={`Pick ${entry.name}`}
                              checked={picked.has(entry.name)}
                              onChange={() => onPick?.(entry.name)}
                            />
                          )}
                        </td>
                      )}
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
                      {tellsWho && (
                        <td className="quiet max-w-40 truncate" title={entry.who ?? undefined}>
                          {entry.who}
                        </td>
                      )}
                      {explains && (
                        <td className="text-right whitespace-nowrap">
                          {entry.kind === "file" && (
                            <Link to={`/explain?file=${encodeURIComponent(entry.path)}`} className="link text-sm" aria-label={`What would happen to ${entry.name}?`}>
                              what would happen?
                            </Link>
                          )}
                        </td>
                      )}
                    </tr>
                  ))}
                </tbody>
              </table>
              {hasNextPage && (
                <p ref={end} className="quiet px-4 py-2" aria-live="polite">
                  {listing.isFetchNextPageError ? (
                    <>
                      {listing.error.message}{" "}
                      <button type="button" className="link" onClick={() => void (givenUp ? refetch() : fetchNextPage())}>
                        {givenUp ? "Open it again" : "Try again"}
                      </button>
                    </>
                  ) : (
                    "There is more…"
                  )}
                </p>
              )}
            </div>
          );
        }}
      </Shown>
    </>
  );
}
