import { CircleAlert, LoaderCircle } from "lucide-react";
import type { ReactNode } from "react";

import { ApiError } from "../api/client";

/** The word for a state, with a sign so that colour is never all that tells it. */
export function StateBadge({ state }: { state: string }) {
  const [sign, colour] =
    {
      done: ["✓", "badge-success"],
      held: ["!", "badge-error"],
      failed: ["!", "badge-error"],
      away: ["✕", "badge-error"],
      well: ["✓", "badge-success"],
      running: ["…", "badge-info"],
      working: ["…", "badge-info"],
      waiting: ["◌", "badge-warning"],
      joining: ["◌", "badge-warning"],
      queued: ["◌", "badge-ghost"],
      skipped: ["–", "badge-ghost"],
      going: ["…", "badge-info"],
      alike: ["✓", "badge-success"],
      asks: ["?", "badge-error"],
      waits: ["◌", "badge-warning"],
      new: ["·", "badge-ghost"],
    }[state] ?? ["·", "badge-ghost"];
  return (
    <span className={`badge badge-soft ${colour} whitespace-nowrap`}>
      <span aria-hidden>{sign}</span> {state}
    </span>
  );
}

export function Loading() {
  return (
    <output className="quiet flex items-center gap-2 py-10">
      <LoaderCircle className="size-4 animate-spin" aria-hidden /> Loading…
    </output>
  );
}

export function Failure({ error, retry, list }: { error: Error; retry?: () => void; list?: ReactNode }) {
  // Trying again brings nothing back that is not there: the list tells what is.
  const isGone = list !== undefined && error instanceof ApiError && error.problem.status === 404;
  return (
    <div className="panel" role="alert">
     <div className="p-4">
      <p className="flex items-start gap-2">
        <CircleAlert className="text-error mt-0.5 size-5 shrink-0" aria-hidden />
        <span className="whitespace-pre-wrap">{error.message}</span>
      </p>
      {isGone && <p className="pt-3">{list}</p>}
      {retry && !isGone && (
        <p className="pt-3">
          <button type="button" className="btn btn-sm" onClick={retry}>
            Try again
          </button>
        </p>
      )}
     </div>
    </div>
  );
}

export function Empty({ title, children }: { title: string; children?: ReactNode }) {
  return (
    <div className="panel">
      <div className="px-6 py-8">
        <p className="text-lg">{title}</p>
        {children && <div className="quiet max-w-prose pt-1">{children}</div>}
      </div>
    </div>
  );
}

/** Shows data, or why there is none yet; `list` leads to what there is, if this is not there. */
export function Shown<T>({
  query,
  list,
  children,
}: {
  query: { data: T | undefined; error: Error | null; isPending: boolean; refetch: () => unknown };
  list?: ReactNode;
  children: (data: T) => ReactNode;
}) {
  if (query.data !== undefined) return <>{children(query.data)}</>;
  if (query.error) return <Failure error={query.error} retry={() => void query.refetch()} list={list} />;
  return <Loading />;
}
