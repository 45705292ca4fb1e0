import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { api, told } from "../../shared/api/client";
import { Failure, Shown } from "../../shared/ui/states";
import { May } from "../../shared/ui/May";

/** Rules that were removed, and the way back. */
export function Removed() {
  const client = useQueryClient();
  const removed = useQuery({ queryKey: ["live", "removed"], queryFn: () => told(api.GET("/api/v1/removed/{kind}", { params: { path: { kind: "rule" } } })) });
  const undo = useMutation({
    mutationFn: (name: string) => told(api.POST("/api/v1/book/{kind}/{name}/undo", { params: { path: { kind: "rule", name } }, body: {} })),
    onSettled: () => client.invalidateQueries({ queryKey: ["live"] }),
  });
  return (
    <>
      {undo.error && <Failure error={undo.error} />}
      <Shown query={removed}>
        {(names) =>
          names.length === 0 ? (
            <p className="quiet px-4 py-3">None was removed.</p>
          ) : (
            names.map((name) => (
              <p key={name} className="flex flex-wrap items-center gap-4 px-4 py-2">
                <span className="file flex-1">{name}</span>
                <May as="manager">
                  <button type="button" className="btn btn-xs" disabled={undo.isPending} onClick={() => undo.mutate(name)}>
                    Put {name} back
                  </button>
                </May>
              </p>
            ))
          )
        }
      </Shown>
    </>
  );
}
