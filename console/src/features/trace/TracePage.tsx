import { queryOptions, useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";

import { type Traced, api, told } from "../../shared/api/client";
import { RuleLink } from "../../shared/ui/RuleLink";
import { Attempts } from "../../shared/ui/Attempts";
import { Time, size } from "../../shared/ui/format";
import { Empty, Shown, StateBadge } from "../../shared/ui/states";

const traceQuery = (text: string) => queryOptions({ queryKey: ["live", "trace", text], queryFn: () => told(api.GET("/api/v1/trace", { params: { query: { text } } })), enabled: text !== "" });

export function TracePage() {
  const [search] = useSearchParams();
  const text = search.get("text") ?? "";
  const traces = useQuery(traceQuery(text));
  return (
    <>
      <h1 className="pb-3 text-2xl font-bold tracking-tight">
        Trace <span className="file [overflow-wrap:anywhere]">{text}</span>
      </h1>
      {text === "" ? (
        <Empty title="Which file?">Type a part of its name, or the beginning of its SHA-256, into the field above (press /).</Empty>
      ) : (
        <Shown query={traces}>
          {({ items }) =>
            items.length === 0 ? (
              <Empty title="No such file was ever taken">
                Neither a name nor a checksum on record fits. If the file lies in a watched folder, ask the rule’s “Would it take…”.
              </Empty>
            ) : (
              <div className="grid grid-cols-1 gap-4">
                {items.map((one) => (
                  <Found key={one.item} one={one} />
                ))}
              </div>
            )
          }
        </Shown>
      )}
    </>
  );
}

/** A file with what was done with it, and what it went into. */
function Found({ one, within = false }: { one: Traced; within?: boolean }) {
  return (
    <article className={within ? "border-base-300 border-t" : "panel"}>
      <p className="flex flex-wrap items-center gap-x-3 gap-y-1 px-4 py-2">
        {within && <span className="quiet">went into</span>}
        <Link to={`/runs/${one.run}`} className="file plain font-semibold [overflow-wrap:anywhere]">
          {one.file}
        </Link>
        <StateBadge state={one.state} />
        <span className="quiet">
          {size(one.size)}
          {!within && (
            <>
              , taken <Time at={one.taken} /> by <RuleLink rule={one.rule} title={one.title} />
            </>
          )}
        </span>
        {one.why && <span className="quiet basis-full">{one.why}</span>}
      </p>
      <Attempts attempts={one.hops} caption={`The way of ${one.file}`} />
      {one.made.length > 0 && (
        <div className="pl-6">
          {one.made.map((made) => (
            <Found key={made.item} one={made} within />
          ))}
        </div>
      )}
      {one.more && <p className="quiet px-4 py-2">It went into more; each is found by its own name.</p>}
    </article>
  );
}
