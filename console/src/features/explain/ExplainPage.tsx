import { useSearchParams } from "react-router";

import { Crumbs } from "../../shared/ui/Crumbs";
import { splitPath } from "../../shared/ui/format";
import { Explain } from "./Explain";

/** What would happen to a file, and why nothing did. */
export function ExplainPage() {
  const [search] = useSearchParams();
  const file = search.get("file") ?? "";
  const { place, folder, name } = splitPath(file);
  return (
    <div className="grid grid-cols-1 gap-3">
      <div>
        {place && <Crumbs to={`/places/${place}${folder ? `?folder=${encodeURIComponent(folder)}` : ""}`} above={place} here={name} />}
        <h1 className="text-2xl font-bold tracking-tight">What would happen to it?</h1>
        <p className="quiet">What each rule says of the file, what it would do with it, and what keeps it from it. Nothing is touched.</p>
      </div>
      <Explain key={file} begin={file} />
    </div>
  );
}
