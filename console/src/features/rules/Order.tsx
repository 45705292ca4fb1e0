import { useMutation, useQueryClient } from "@tanstack/react-query";
import { ArrowDown, ArrowUp } from "lucide-react";
import { useState } from "react";

import { type RuleSummary, api, told } from "../../shared/api/client";
import { Failure } from "../../shared/ui/states";

/** In which order rules are asked, changed by moving one at a time. */
export function Order({ rules, onDone }: { rules: RuleSummary[]; onDone: () => void }) {
  const client = useQueryClient();
  const [order, setOrder] = useState(() => rules.map(({ name }) => name));
  const titles = new Map(rules.map((rule) => [rule.name, rule.title]));
  const put = useMutation({
    mutationFn: () => told(api.PUT("/api/v1/rule-order", { body: { rules: order } })),
    onSuccess: onDone,
    onSettled: () => client.invalidateQueries({ queryKey: ["live"] }),
  });
  const move = (at: number, by: -1 | 1) => {
    const name = order[at];
    if (name !== undefined) setOrder(order.toSpliced(at, 1).toSpliced(at + by, 0, name));
  };
  return (
    <section aria-label="The order in which rules are asked" className="grid gap-2">
      <p>Of a file that several rules want, the first one takes it.</p>
      {put.error && <Failure error={put.error} />}
      <ol className="panel">
        {order.map((name, at) => (
          <li key={name} className="flex items-center gap-3 px-4 py-1">
            <span className="w-6 text-right font-semibold">{at + 1}</span>
            <span className="min-w-0 flex-1 [overflow-wrap:anywhere]">{titles.get(name) ?? name}</span>
            <button type="button" className="btn btn-ghost btn-sm" aria-label={`Ask ${titles.get(name)} earlier`} disabled={at === 0} onClick={() => move(at, -1)}>
              <ArrowUp className="size-4" aria-hidden />
            </button>
            <button type="button" className="btn btn-ghost btn-sm" aria-label={`Ask ${titles.get(name)} later`} disabled={at === order.length - 1} onClick={() => move(at, 1)}>
              <ArrowDown className="size-4" aria-hidden />
            </button>
          </li>
        ))}
      </ol>
      <p className="flex gap-2">
        <button type="button" className="btn btn-primary btn-sm" disabled={put.isPending} onClick={() => put.mutate()}>
          Put in force
        </button>
        <button type="button" className="btn btn-sm" onClick={onDone}>
          Leave it as it is
        </button>
      </p>
    </section>
  );
}
