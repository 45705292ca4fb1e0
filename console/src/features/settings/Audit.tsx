import { useInfiniteQuery } from "@tanstack/react-query";

import type { Schemas } from "../../shared/api/client";
import { Time } from "../../shared/ui/format";
import { Failure, Loading } from "../../shared/ui/states";
import { auditQuery } from "./queries";

/** What came of it. */
function Outcome({ outcome }: { outcome: Schemas["AuditEntry"]["outcome"] }) {
  if (outcome == null) return <span className="badge badge-soft badge-warning">? not known</span>;
  if (outcome < 300) return <span className="badge badge-soft badge-success">✓ done</span>;
  return <span className="badge badge-soft badge-error">! {outcome === 403 ? "refused" : `not done (${outcome})`}</span>;
}

/** Who changed or did what, newest first. */
export function Audit() {
  const audit = useInfiniteQuery(auditQuery);
  if (audit.error) return <Failure error={audit.error} retry={() => void audit.refetch()} />;
  if (!audit.data) return <Loading />;
  const entries = audit.data.pages.flatMap((page) => page.entries);
  if (entries.length === 0) return <p className="quiet px-4 py-3">Nobody changed or did anything yet.</p>;
  return (
    <div className="overflow-x-auto">
      <table className="table-sm table min-w-[46rem]">
        <caption className="sr-only">Who changed or did what, newest first</caption>
        <thead>
          <tr>
            <th scope="col">When</th>
            <th scope="col">Who</th>
            <th scope="col">What</th>
            <th scope="col">Of</th>
            <th scope="col">Outcome</th>
          </tr>
        </thead>
        <tbody>
          {entries.map((entry) => (
            <tr key={entry.id}>
              <td className="whitespace-nowrap">
                <Time at={entry.at} />
              </td>
              <td className="[overflow-wrap:anywhere]" title={`from ${entry.address}`}>
                {entry.who}
              </td>
              <td>{entry.what}</td>
              <td className="file [overflow-wrap:anywhere]">
                {entry.about}
                {entry.note && <span className="quiet"> {entry.note}</span>}
              </td>
              <td className="whitespace-nowrap">
                <Outcome outcome={entry.outcome} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {audit.hasNextPage && (
        <p className="px-4 py-3">
          <button type="button" className="btn btn-sm" disabled={audit.isFetchingNextPage} onClick={() => void audit.fetchNextPage()}>
            Older ones
          </button>
        </p>
      )}
    </div>
  );
}
