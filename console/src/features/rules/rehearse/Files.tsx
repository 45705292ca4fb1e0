import { Fragment, useState } from "react";

import { Time, size, splitPath } from "../../../shared/ui/format";
import { Way, WayInShort } from "../../../shared/rehearse/Way";
import type { RehearsedFile } from "../../../shared/rehearse/queries";

/** The whole of one file: what is in force beside what would be. */
function Whole({ file, isCompared }: { file: RehearsedFile; isCompared: boolean }) {
  if (!isCompared || !file.before) return <Way way={file.after} />;
  return (
    <div className="grid gap-4 lg:grid-cols-2">
      <section aria-label="In force">
        <h3 className="pb-1 font-semibold">In force</h3>
        <Way way={file.before} />
      </section>
      <section aria-label="Would be">
        <h3 className="pb-1 font-semibold">Would be</h3>
        <Way way={file.after} />
      </section>
    </div>
  );
}

/** Files one by one; each opens its whole way. */
export function Files({ files, isCompared, label }: { files: RehearsedFile[]; isCompared: boolean; label: string }) {
  const [open, setOpen] = useState<string>();
  return (
    <div className="panel overflow-x-auto">
      <table className="rehearsed table-sm table">
        <caption className="sr-only">{label}</caption>
        <thead>
          <tr>
            <th scope="col">file</th>
            <th scope="col">came</th>
            {isCompared && <th scope="col">in force</th>}
            <th scope="col">{isCompared ? "would be" : "goes"}</th>
            <th scope="col">{isCompared ? "why" : "and then"}</th>
          </tr>
        </thead>
        <tbody>
          {files.map((file) => {
            const key = `${file.arrival ?? ""} ${file.came} ${file.file}`;
            const { name } = splitPath(file.file);
            return (
              <Fragment key={key}>
                <tr>
                  <td className="min-w-48 [overflow-wrap:anywhere]">
                    <button type="button" className="link file text-left" aria-expanded={open === key} onClick={() => setOpen(open === key ? undefined : key)}>
                      {name}
                    </button>
                    <span className="quiet block text-sm">{size(file.size)}</span>
                  </td>
                  <td className="quiet whitespace-nowrap">
                    <Time at={file.came} />
                  </td>
                  {isCompared && <td>{file.before && <WayInShort way={file.before} />}</td>}
                  <td>
                    <WayInShort way={file.after} isChanged={Boolean(file.kind)} />
                  </td>
                  <td className="[overflow-wrap:anywhere]">{isCompared ? file.why : file.after.end}</td>
                </tr>
                {open === key && (
                  <tr>
                    <td colSpan={isCompared ? 5 : 4} className="bg-base-200">
                      <p className="file quiet pb-2 text-sm [overflow-wrap:anywhere]">{file.file}</p>
                      <Whole file={file} isCompared={isCompared} />
                    </td>
                  </tr>
                )}
              </Fragment>
            );
          })}
        </tbody>
      </table>
    </div>
  );
}
