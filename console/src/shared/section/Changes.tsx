import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { api, told } from "../api/client";
import { Time } from "../ui/format";
import { Shown } from "../ui/states";
import { sectionQuery } from "./Stale";
import { Words } from "./Words";
import { May } from "../ui/May";

/** What was changed, when, by whom and why; and the way back. */
export function Changes({ kind, name }: { kind: string; name: string }) {
  const client = useQueryClient();
  const undo = useMutation({
    mutationFn: (version: number) => told(api.POST("/api/v1/book/{kind}/{name}/undo", { params: { path: { kind, name } }, body: { version } })),
    onSettled: () => client.invalidateQueries({ queryKey: ["live"] }),
  });
  return (
    <Shown query={useQuery(sectionQuery(kind, name))}>
      {(section) => (
        <div className="grid gap-3">
          {undo.error && (
            <p role="alert" className="text-error whitespace-pre-wrap">
              {undo.error.message}
            </p>
          )}
          <ol className="panel">
            {section.versions.map((version, at) => (
              <li key={version.version} className="grid gap-1 px-4 py-3">
                <p className="flex flex-wrap items-center gap-x-3 gap-y-1">
                  <span className="font-semibold">Version {version.version}</span>
                  <span className="quiet">
                    <Time at={version.at} /> by {version.who}
                  </span>
                  {version.version === section.version ? (
                    <span className="badge badge-soft badge-success badge-sm">✓ in force</span>
                  ) : (
                    version.text !== null &&
                    version.text !== undefined && (
                      <May as="manager">
                        <button type="button" className="btn btn-xs" disabled={undo.isPending} onClick={() => undo.mutate(version.version)}>
                          Back to version {version.version}
                        </button>
                      </May>
                    )
                  )}
                </p>
                {version.note && <p>{version.note}</p>}
                {version.differences.length > 0 ? (
                  <Words differences={version.differences} />
                ) : (
                  <p className="quiet text-sm">
                    {version.text === null || version.text === undefined ? "Removed." : at === section.versions.length - 1 ? "Added." : "Only its comments or order differ."}
                  </p>
                )}
                {version.text && (
                  <details>
                    <summary className="quiet cursor-pointer text-sm">Its text</summary>
                    <pre className="file overflow-x-auto py-2">{version.text}</pre>
                  </details>
                )}
              </li>
            ))}
          </ol>
        </div>
      )}
    </Shown>
  );
}
