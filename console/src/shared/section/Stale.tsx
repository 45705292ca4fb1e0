import { queryOptions, useQuery } from "@tanstack/react-query";

import { api, told } from "../api/client";
import { Time } from "../ui/format";
import { Words } from "./Words";
import type { Editor } from "./useEditor";

export const sectionQuery = (kind: string, name: string) =>
  queryOptions({
    queryKey: ["live", "section", kind, name],
    queryFn: () => told(api.GET("/api/v1/book/{kind}/{name}", { params: { path: { kind, name } } })),
  });

/** Somebody changed it while the draft was made: what they did, and how both come together. */
export function Stale({ editor, kind, name }: { editor: Editor; kind: string; name: string }) {
  const section = useQuery({ ...sectionQuery(kind, name), enabled: editor.isStale });
  if (!editor.isStale) return null;
  const since = section.data?.versions.filter(({ version }) => version > (editor.ground.version ?? 0)) ?? [];
  return (
    <section role="alert" className="panel border-warning">
      <div className="grid gap-2 px-4 py-3">
        <p className="font-semibold">It was changed since this draft was begun.</p>
        {since.map((version) => (
          <div key={version.version}>
            <p className="text-sm">
              Version {version.version}, <Time at={version.at} /> by {version.who}
              {version.note && `: ${version.note}`}
            </p>
            <Words differences={version.differences} />
          </div>
        ))}
        <p className="flex flex-wrap gap-2">
          <button type="button" className="btn btn-sm btn-primary" onClick={() => void editor.merge()}>
            Take theirs into mine
          </button>
          <button type="button" className="btn btn-sm" onClick={editor.discard}>
            Discard mine
          </button>
          <span className="quiet self-center text-sm">Where both changed the same, yours stays.</span>
        </p>
      </div>
    </section>
  );
}
