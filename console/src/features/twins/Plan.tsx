import { type KeyboardEvent, useRef, useState } from "react";

import { Bank } from "../../shared/ui/Crossing";
import { Dialog } from "../../shared/ui/Dialog";
import { Time, plural, size } from "../../shared/ui/format";
import { Mark, type MarkKind, marksOf } from "./Mark";
import { Texts } from "./Texts";
import { type Comparison, type Line, type Twin } from "./queries";
import { type Folder, type Row, below, counts, isWithout, rowsOf, sum, travels, treeOf } from "./tree";

/** A folder in which more than this would happen is folded at first. */
const FOLDED = 30;

interface Props {
  twin: Twin;
  found: Comparison;
  without: ReadonlySet<string>;
  answers: Record<string, string>;
  onWithout: (path: string, is: boolean) => void;
  onAnswer: (path: string, answer: string | undefined) => void;
  onForEver: (path: string) => void;
}

const ANSWERS: Record<string, string> = { near: "← near one", both: "keep both", far: "far one →" };

function Shore({ kind, side }: { kind: MarkKind | undefined; side: "near" | "far" }) {
  return <td>{kind && <Mark kind={kind} side={side} />}</td>;
}

function File({ file }: { file: Line["here"] }) {
  if (!file) return null;
  return (
    <>
      {size(file.size)}
      {file.modified && (
        <>
          , <Time at={file.modified} />
        </>
      )}
    </>
  );
}

function LeftOut({ onForEver }: { onForEver: () => void }) {
  return (
    <>
      left out this time,{" "}
      <button type="button" tabIndex={-1} className="link" onClick={onForEver}>
        for ever?
      </button>
    </>
  );
}

function LineRow({ line, twin, depth, isOut, isStopped, answer, onWithout, onAnswer, onForEver, onTexts }: {
  line: Line;
  twin: Twin;
  depth: number;
  isOut: boolean;
  isStopped: boolean;
  answer: string | undefined;
  onWithout: (is: boolean) => void;
  onAnswer: (answer: string | undefined) => void;
  onForEver: () => void;
  onTexts: () => void;
}) {
  const marks = marksOf(line, isOut, isStopped);
  const name = line.near.slice(line.near.lastIndexOf("/") + 1);
  const can = line.does !== "leave" && line.does !== "ask";
  const isText = line.here && line.there && (line.does === "ask" || line.does === "keep-both" || line.does === "replace");
  return (
    <>
      <td className="text-sm">
        {line.here ? <File file={line.here} /> : line.there ? "not here" : ""}
      </td>
      <Shore kind={marks.near} side="near" />
      <td>
        <span style={{ width: `${depth * 1.2}rem` }} aria-hidden />
        {can ? (
          <input type="checkbox" tabIndex={-1} className="checkbox checkbox-sm checkbox-primary" aria-label={`Do it for ${line.near}`} checked={!isOut} onChange={(event) => onWithout(!event.target.checked)} />
        ) : (
          <span className="w-5" />
        )}
        <span className="file min-w-0 [overflow-wrap:anywhere]">{name}</span>
        {line.answers.length > 0 && (
          <fieldset className="join w-full pt-1 pl-8" aria-label={`Which ${line.near} stays?`}>
            {line.answers.map((one) => (
              <button key={one} type="button" tabIndex={-1} className="btn btn-xs join-item" aria-pressed={answer === one} onClick={() => onAnswer(answer === one ? undefined : one)}>
                {ANSWERS[one] ?? one}
              </button>
            ))}
          </fieldset>
        )}
      </td>
      <td className="text-sm">
        <span className="[overflow-wrap:anywhere]">
          {isOut ? (
            <LeftOut onForEver={onForEver} />
          ) : (
            <>
              <strong className={`font-semibold ${isStopped && line.does === "delete" ? "text-error" : ""}`}>{line.words}</strong>
              {line.if_differs && " if it differs"}, {line.why}
              {line.does === "delete" && `; kept ${plural(twin.keep_days, "day", "days")}`}
            </>
          )}
          {isText && (
            <>
              {" "}
              <button type="button" tabIndex={-1} className="link" onClick={onTexts}>
                both texts
              </button>
            </>
          )}
        </span>
      </td>
      <Shore kind={marks.far} side="far" />
      <td className="text-sm">
        {line.there ? <File file={line.there} /> : line.here ? "not there" : ""}
      </td>
    </>
  );
}

function FolderRow({ folder, depth, isOpen, without, onOpen, onWithout, onForEver }: {
  folder: Folder;
  depth: number;
  isOpen: boolean;
  without: ReadonlySet<string>;
  onOpen: () => void;
  onWithout: (is: boolean) => void;
  onForEver: () => void;
}) {
  const all = below(folder);
  const done = all.filter((line) => counts(line));
  const [out, some] = [isWithout(without, folder.path), all.some((line) => isWithout(without, line.near))];
  const bytes = all.reduce((total, line) => total + travels(line), 0);
  const marks = folder.own ? marksOf(folder.own, out, false) : {};
  return (
    <>
      <td>
        <span className="sr-only">a folder</span>
      </td>
      <Shore kind={marks.near} side="near" />
      <td>
        <span style={{ width: `${depth * 1.2}rem` }} aria-hidden />
        <input
          type="checkbox"
          tabIndex={-1}
          className="checkbox checkbox-sm checkbox-primary"
          aria-label={`Do it in ${folder.path}/`}
          checked={!out}
          ref={(box) => {
            if (box) box.indeterminate = some && !out;
          }}
          onChange={(event) => onWithout(!event.target.checked)}
        />
        <button type="button" tabIndex={-1} aria-expanded={isOpen} className="file min-w-0 cursor-pointer font-semibold [overflow-wrap:anywhere]" onClick={onOpen}>
          <span aria-hidden>{isOpen ? "▾" : "▸"}</span> {folder.name}/
        </button>
      </td>
      <td className="text-sm">
        <span className="[overflow-wrap:anywhere]">
          {out ? (
            <LeftOut onForEver={onForEver} />
          ) : (
            <>
              {folder.own && folder.own.does !== "leave" && <strong className="font-semibold">{folder.own.words}. </strong>}
              {done.length > 0 && sum(done)}
              {bytes > 0 && `, ${size(bytes)}`}
            </>
          )}
        </span>
      </td>
      <Shore kind={marks.far} side="far" />
      <td>
        <span className="sr-only">a folder</span>
      </td>
    </>
  );
}

/** What a pass would do, as a tree of folders. The arrow keys move, open and close; the space bar leaves a row out. */
export function Plan({ twin, found, without, answers, onWithout, onAnswer, onForEver }: Props) {
  const list = useRef<HTMLDivElement>(null);
  const tree = treeOf(found.lines);
  const [turned, setTurned] = useState<Record<string, boolean>>({});
  const [at, setAt] = useState(0);
  const [texts, setTexts] = useState<Line>();
  const byFolder = (folder: Folder): [string, Folder][] => [[folder.path, folder], ...folder.folders.flatMap(byFolder)];
  const folders = new Map(byFolder(tree));
  const isOpen = (path: string): boolean => turned[path] ?? below(folders.get(path) ?? tree).length <= FOLDED;
  const rows = rowsOf(tree, isOpen);
  const turn = (path: string, is: boolean) => setTurned((now) => ({ ...now, [path]: is }));
  const goTo = (number: number) => {
    const to = Math.max(0, Math.min(rows.length - 1, number));
    setAt(to);
    list.current?.querySelectorAll<HTMLElement>("[data-row]")[to]?.focus();
  };
  const canLeaveOut = (row: Row) => "folder" in row || (row.line.does !== "leave" && row.line.does !== "ask");
  const onKey = (event: KeyboardEvent<HTMLTableRowElement>, number: number, row: Row) => {
    if (event.target !== event.currentTarget) return;
    const path = row.path;
    const above = rows.findLastIndex((one, other) => other < number && one.depth < row.depth);
    const acts: Record<string, () => void> = {
      ArrowDown: () => goTo(number + 1),
      ArrowUp: () => goTo(number - 1),
      Home: () => goTo(0),
      End: () => goTo(rows.length - 1),
      ArrowRight: () => ("folder" in row && !isOpen(path) ? turn(path, true) : goTo(number + 1)),
      ArrowLeft: () => ("folder" in row && isOpen(path) ? turn(path, false) : above >= 0 && goTo(above)),
      " ": () => canLeaveOut(row) && onWithout(path, !isWithout(without, path)),
      Enter: () => {
        if ("folder" in row) turn(path, !isOpen(path));
        else if (row.line.here && row.line.there) setTexts(row.line);
      },
    };
    const act = acts[event.key];
    if (!act) return;
    event.preventDefault();
    act();
  };
  const isStopped = (line: Line) => found.stop?.kind === "too-much" && line.on === found.stop.side;
  return (
    <>
      <div className="plan" ref={list}>
        <Bank side="near" />
        <Bank side="far" />
       <table aria-label="What a pass would do">
        <thead>
        <tr className="plan-row" data-head="true">
          <th className="file [overflow-wrap:anywhere]">
            {twin.near}
          </th>
          <th>
            <span className="sr-only">What is done here</span>
          </th>
          <th>Path</th>
          <th>What would happen</th>
          <th>
            <span className="sr-only">What is done there</span>
          </th>
          <th className="file [overflow-wrap:anywhere]">
            {twin.far}
          </th>
        </tr>
        </thead>
        <tbody>
        {rows.map((row, number) => {
          const isOut = isWithout(without, row.path);
          const isFolder = "folder" in row;
          return (
            <tr
              key={`${isFolder ? "d" : "f"}${row.path}`}
              className="plan-row"
              data-row
              data-without={isOut}
              tabIndex={number === Math.min(at, rows.length - 1) ? 0 : -1}
              onFocus={(event) => event.target === event.currentTarget && setAt(number)}
              onKeyDown={(event) => onKey(event, number, row)}
            >
              {isFolder ? (
                <FolderRow
                  folder={row.folder}
                  depth={row.depth}
                  isOpen={isOpen(row.path)}
                  without={without}
                  onOpen={() => turn(row.path, !isOpen(row.path))}
                  onWithout={(is) => onWithout(row.path, is)}
                  onForEver={() => onForEver(row.path)}
                />
              ) : (
                <LineRow
                  line={row.line}
                  twin={twin}
                  depth={row.depth}
                  isOut={isOut}
                  isStopped={isStopped(row.line)}
                  answer={answers[row.path]}
                  onWithout={(is) => onWithout(row.path, is)}
                  onAnswer={(one) => onAnswer(row.path, one)}
                  onForEver={() => onForEver(row.path)}
                  onTexts={() => setTexts(row.line)}
                />
              )}
            </tr>
          );
        })}
        </tbody>
       </table>
      </div>
      <Dialog title={texts ? `Both texts of ${texts.near}` : ""} open={texts !== undefined} onClose={() => setTexts(undefined)}>
        {texts && <Texts twin={twin.name} line={texts} />}
      </Dialog>
    </>
  );
}
