import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";

import { Time, size } from "../../shared/ui/format";
import { Shown } from "../../shared/ui/states";
import { exchangesQuery } from "./queries";

const WORDS: Record<string, string> = { "handed-in": "handed in", collected: "collected", removed: "removed" };

/** What was handed in and collected last, by an account or by all of a partner's. */
export function Exchanged({ of }: { of: { account?: string; partner?: string } }) {
  return (
    <Shown query={useQuery(exchangesQuery(of))}>
      {(list) =>
        list.length === 0 ? (
          <p className="quiet px-4 py-3">Nothing was exchanged yet.</p>
        ) : (
          list.map((one) => (
            <div key={one.id} className="px-4 py-2">
              <p className="flex flex-wrap items-baseline gap-x-4">
                <span className="file min-w-0 flex-1 [overflow-wrap:anywhere]">{one.seen}</span>
                <span>{WORDS[one.what] ?? one.what}</span>
                <span className="quiet">{size(one.size)}</span>
                <Time at={one.at} />
              </p>
              <p className="quiet text-sm [overflow-wrap:anywhere]">
                {of.account === undefined && <>{one.account} · </>}
                from {one.address}
                {one.blake3 && (
                  <>
                    {" "}
                    · BLAKE3 <span className="file">{one.blake3.slice(0, 16)}…</span>
                  </>
                )}
                {one.items.length > 0 && (
                  <>
                    {" · "}
                    <Link to={`/trace?text=${encodeURIComponent(one.seen.split("/").at(-1) ?? "")}`} className="link">
                      what became of it
                    </Link>
                  </>
                )}
              </p>
            </div>
          ))
        )
      }
    </Shown>
  );
}
