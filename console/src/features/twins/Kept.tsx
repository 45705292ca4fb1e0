import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";

import { api, told } from "../../shared/api/client";
import { Time, size } from "../../shared/ui/format";
import { Empty, Shown } from "../../shared/ui/states";
import { type Kept, type Twin, keptQuery } from "./queries";
import { May } from "../../shared/ui/May";

/** What the sides lost and keep, each with a button that brings it back. */
export function KeptFiles({ twin }: { twin: Twin }) {
  const client = useQueryClient();
  const restore = useMutation({
    mutationFn: ({ side, day, path }: Kept) =>
      told(api.POST("/api/v1/twins/{name}/restore", { params: { path: { name: twin.name } }, body: { side, day, paths: [path] } })),
    onSettled: () => client.invalidateQueries({ queryKey: ["live"] }),
  });
  return (
    <div className="grid gap-3">
      {restore.error && (
        <p role="alert" className="text-error">
          {restore.error.message}
        </p>
      )}
      {restore.data && (
        <output>
          ✓ It is brought back:{" "}
          <Link className="link" to={`/runs/${restore.data.run}`}>
            run {restore.data.run}
          </Link>
        </output>
      )}
      <Shown query={useQuery(keptQuery(twin.name))}>
        {({ kept, more }) =>
          kept.length === 0 ? (
            <Empty title="Neither side keeps anything">
              {twin.way === "add" ? "This twin replaces and deletes nothing." : `What a side loses in a pass lies here for ${twin.keep_days} days.`}
            </Empty>
          ) : (
            <div className="panel overflow-x-auto">
              <table className="table">
                <thead>
                  <tr>
                    <th>Lost on</th>
                    <th>Side</th>
                    <th>Path</th>
                    <th>Size</th>
                    <th>Changed</th>
                    <th>
                      <span className="sr-only">Bring back</span>
                    </th>
                  </tr>
                </thead>
                <tbody>
                  {kept.map((one) => (
                    <tr key={`${one.side} ${one.day} ${one.path}`}>
                      <td className="whitespace-nowrap">{one.day}</td>
                      <td>{one.side}</td>
                      <td className="file [overflow-wrap:anywhere]">{one.path}</td>
                      <td className="whitespace-nowrap">{size(one.size)}</td>
                      <td className="whitespace-nowrap">
                        <Time at={one.modified} />
                      </td>
                      <td>
                        <May as="operator">
                          <button type="button" className="btn btn-sm" disabled={restore.isPending} aria-label={`Bring back ${one.path}`} onClick={() => restore.mutate(one)}>
                            Bring back
                          </button>
                        </May>
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
              {more && <p className="quiet px-4 py-2 text-sm">There is more; wetbank twin restore brings back whole days.</p>}
            </div>
          )
        }
      </Shown>
    </div>
  );
}
