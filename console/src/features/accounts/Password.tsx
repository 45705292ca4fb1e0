import { useMutation, useQueryClient } from "@tanstack/react-query";

import { type Schemas, api, told } from "../../shared/api/client";
import { May } from "../../shared/ui/May";
import { Time } from "../../shared/ui/format";
import { Failure } from "../../shared/ui/states";

/** What an account's password is, and a new one that counts once. */
export function Password({ account }: { account: Schemas["Account"] }) {
  const client = useQueryClient();
  const params = { path: { name: account.name } };
  const make = useMutation({
    mutationFn: () => told(api.PUT("/api/v1/accounts/{name}/password", { params, body: {} })),
    onSettled: () => client.invalidateQueries({ queryKey: ["live"] }),
  });
  if (!account.password) return <p className="quiet px-4 py-3">It signs in with keys only.</p>;
  return (
    <div className="grid gap-2 px-4 py-3">
      <p>
        {account.has ? (
          <>
            It has a password of <Time at={account.has.made} />
            {account.has.once && ", which counts once"}
            {account.has.locked && (
              <span className="text-error">
                ; none counts until <Time at={account.has.locked} />
              </span>
            )}
            .
          </>
        ) : (
          "It has no password yet."
        )}
      </p>
      {make.error && <Failure error={make.error} />}
      {make.data?.password && (
        <output className="block">
          <span className="file text-lg">{make.data.password}</span>
          <span className="quiet block text-sm">It counts once and is not shown again: whoever signs in with it chooses another one.</span>
        </output>
      )}
      <May as="manager">
        <p>
          <button type="button" className="btn btn-sm" disabled={make.isPending} onClick={() => make.mutate()}>
            Make a password that counts once
          </button>
        </p>
      </May>
    </div>
  );
}
