import type { Attempt } from "../api/client";
import { Clock, size } from "./format";
import { StateBadge } from "./states";

function took(attempt: Attempt): string {
  if (!attempt.ended) return "–";
  const ms = new Date(attempt.ended).getTime() - new Date(attempt.began).getTime();
  return ms < 1000 ? `${ms} ms` : `${(ms / 1000).toFixed(1)} s`;
}

/** Every attempt, with what it left behind and what it said. */
export function Attempts({ attempts, caption }: { attempts: Attempt[]; caption: string }) {
  if (attempts.length === 0) return <p className="quiet px-4 py-3">No step was begun yet.</p>;
  return (
    <div className="overflow-x-auto">
      <table className="table-sm table">
        <caption className="sr-only">{caption}</caption>
        <thead>
          <tr>
            <th scope="col">step</th>
            <th scope="col">attempt</th>
            <th scope="col">at</th>
            <th scope="col">took</th>
            <th scope="col">outcome</th>
            <th scope="col">size</th>
            <th scope="col">result</th>
          </tr>
        </thead>
        <tbody>
          {attempts.map((attempt) => (
            <tr key={attempt.id} className="align-top">
              <td>{attempt.kind}</td>
              <td>{attempt.number}</td>
              <td>
                <Clock at={attempt.began} />
              </td>
              <td className="whitespace-nowrap">{took(attempt)}</td>
              <td>
                <StateBadge state={attempt.outcome} />
              </td>
              <td className="whitespace-nowrap">{attempt.size == null ? "–" : size(attempt.size)}</td>
              <td className="break-words [overflow-wrap:anywhere]">
                {attempt.target && (
                  <span className="file block">
                    {attempt.removed && "removed "}
                    {attempt.target}
                  </span>
                )}
                {attempt.sha256 && (
                  <span className="file quiet block text-xs" title={`BLAKE3 ${attempt.blake3 ?? ""}`}>
                    SHA-256 {attempt.sha256}
                  </span>
                )}
                {attempt.message && <span className="block">{attempt.message}</span>}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
