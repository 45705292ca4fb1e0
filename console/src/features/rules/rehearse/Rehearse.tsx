import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";

import { type Schemas, api, told } from "../../../shared/api/client";
import { type Table, at, isTable, tables } from "../../../shared/form/values";
import type { Editor } from "../../../shared/section/useEditor";
import { Time } from "../../../shared/ui/format";
import { Failure, Loading } from "../../../shared/ui/states";
import { ChooseFile } from "../../../shared/ui/ChooseFile";
import { Days } from "./Days";
import { Files } from "./Files";
import { type AskRehearsal, type Rehearsal, type RehearsedOnly, rehearsalQuery } from "../../../shared/rehearse/queries";

type Over = Schemas["RehearsedOver"];

const SPANS = [7, 30, 90, 365];
const USUAL_DAYS = 30;

function overOf(search: URLSearchParams, looks: boolean): Over {
  const [file, days] = [search.get("file"), search.get("days")];
  if (file !== null) return { file };
  if (days !== null) return { days: Number(days) || USUAL_DAYS };
  return looks ? "here" : { days: USUAL_DAYS };
}

/** Files of a page. */
const PAGE = 50;
/** Files in a saved list, asked for in pages. */
const LIST_PAGE = 500;

// What begins like a formula is none: names are given by whoever sends files.
const quoted = (text: string): string => `"${(/^[=+\-@\t\r]/.test(text) ? `'${text}` : text).replaceAll('"', '""')}"`;

/** The files that were asked for as a table for a spreadsheet. */
async function saveAsList(asked: AskRehearsal, rule: string) {
  const lines = ["file,size,came,in force,would be,why"];
  for (let from = 0; ; from += LIST_PAGE) {
    const page = await told(api.POST("/api/v1/rehearsals", { body: { ...asked, from, most: LIST_PAGE } }));
    const way = (one: Schemas["Foreseen"] | null | undefined) => (one ? [one.branch ?? "not taken", ...one.steps.flatMap((step) => (step.left_out ? [] : (step.comes_to ?? [])))].join("; ") : "");
    lines.push(...page.shown.map((file) => [file.file, String(file.size), file.came, way(file.before), way(file.after), file.why ?? file.after.end].map(quoted).join(",")));
    if (from + LIST_PAGE >= page.asked_for) break;
  }
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([`${lines.join("\r\n")}\r\n`], { type: "text/csv" }));
  link.download = `rehearsal-${rule}.csv`;
  link.click();
  URL.revokeObjectURL(link.href);
}

function Ways({ found }: { found: Rehearsal }) {
  return (
    <ul aria-label="Where they go" className="panel">
      {found.ways.map((way) => (
        <li key={`${way.branch} ${way.places.join()} ${way.held}`} className="flex flex-wrap items-baseline gap-x-3 px-4 py-2">
          <span className="min-w-14 text-right font-semibold">{way.files.toLocaleString("en-GB")}</span>
          <span className="font-semibold">{way.branch ?? "not taken"}</span>
          <span className="quiet min-w-0 [overflow-wrap:anywhere]">{way.held ? "wait for a person" : way.places.length ? `to ${way.places.join(", ")}` : ""}</span>
        </li>
      ))}
    </ul>
  );
}

/** What a rule, as it is in force or as it is drafted, would do. */
export function Rehearse({ editor, name }: { editor: Editor; name: string }) {
  // Over which files stands in the address: it can be sent to a colleague.
  const [search, setSearch] = useSearchParams();
  const value = editor.draft.value as Table;
  // What another rule, a letter or a signal hands over lies in no folder of its own.
  const looks = isTable(at(value, "starts.arrival")) || tables(value.finds).length > 0;
  const over = overOf(search, looks);
  const days = Number(search.get("days") ?? USUAL_DAYS);
  const [only, setOnly] = useState<RehearsedOnly>();
  const [day, setDay] = useState<string>();
  const [pages, setPages] = useState(1);
  const [isChoosing, setChoosing] = useState(false);
  const isDraft = editor.isChanged;
  const isCompared = isDraft && name !== "";
  const shown = only ?? (isCompared ? "differing" : "all");
  const asked: AskRehearsal = {
    ...(isDraft ? { draft: { text: editor.text } } : { rule: name }),
    compare: isCompared,
    over,
    only: typeof over === "object" && "file" in over ? "all" : shown,
    day: day ?? null,
    most: PAGE * pages,
    from: 0,
  };
  const isReady = !editor.isBehind && editor.draft.mistakes.length === 0;
  const query = useQuery(rehearsalQuery(asked, isReady));
  const found = query.data;
  const file = typeof over === "object" && "file" in over ? over.file : undefined;
  const isPast = typeof over === "object" && "days" in over;
  const setFiles = (to: Over) => {
    setSearch(
      (before) => {
        const after = new URLSearchParams(before);
        after.delete("file");
        after.delete("days");
        if (typeof to === "object" && "file" in to) after.set("file", to.file);
        if (typeof to === "object" && "days" in to) after.set("days", String(to.days));
        return after;
      },
      { replace: true },
    );
    setDay(undefined);
    setOnly(undefined);
    setPages(1);
  };
  const pick = (to: RehearsedOnly) => {
    setOnly(to);
    setPages(1);
  };
  const same = found ? found.files - found.differing.reduce((sum, one) => sum + one.files, 0) : 0;
  return (
    <div className="grid gap-3">
      <div className="flex flex-wrap items-center gap-x-3 gap-y-2">
        <span>{isCompared ? `Your draft against version ${editor.ground.version}, over` : isDraft ? "Your draft, over" : "The rule in force, over"}</span>
        <fieldset className="join" aria-label="Over which files">
          <button type="button" className="btn btn-sm join-item" disabled={!looks} aria-pressed={over === "here"} onClick={() => setFiles("here")}>
            what lies there now
          </button>
          <button type="button" className="btn btn-sm join-item" aria-pressed={isPast} onClick={() => setFiles({ days })}>
            what came
          </button>
          <button type="button" className="btn btn-sm join-item" aria-pressed={file !== undefined} onClick={() => setChoosing(true)}>
            one file…
          </button>
        </fieldset>
        {isPast && (
          <label className="flex items-center gap-2">
            in the last
            <select
              className="select select-sm w-auto"
              value={days}
              onChange={(event) => setFiles({ days: Number(event.target.value) })}
            >
              {SPANS.map((span) => (
                <option key={span} value={span}>
                  {span} days
                </option>
              ))}
            </select>
          </label>
        )}
        <button type="button" className="btn btn-sm" disabled={!isReady || query.isFetching} onClick={() => void query.refetch()}>
          Rehearse again
        </button>
      </div>
      {!isReady && editor.draft.mistakes.length > 0 && <p role="alert">What is to be finished comes first: {editor.draft.mistakes[0]?.message}</p>}
      {query.error && <Failure error={query.error} retry={() => void query.refetch()} />}
      {isReady && query.isPending && <Loading />}
      {found && (
        <section aria-label="What would happen" className="grid gap-3" aria-busy={query.isFetching}>
          <div>
            <h2 className="text-xl font-bold" aria-live="polite">
              {found.headline}
            </h2>
            {found.differing.length > 0 && <p>{found.differing.map((one) => one.words).join(", ")}.</p>}
            {found.same_names > 0 && (
              <p className="text-changed">
                {found.same_names === 1 ? "1 file gets the name of a file before: it waits" : `${found.same_names.toLocaleString("en-GB")} files get the name of a file before: they wait`} for a person if that one still lies there.
              </p>
            )}
            <p className="quiet text-sm">
              Nothing was touched, written or sent. It took {found.took} ms.
              {isPast && found.on_record_since && (
                <>
                  {" "}
                  The record of what came goes back to <Time at={found.on_record_since} />.
                </>
              )}
            </p>
            {found.left.map((one) => (
              <p key={one} className="text-warning-strong">
                ! {one}
              </p>
            ))}
          </div>
          {isPast && found.days.length > 0 && <Days days={found.days} day={day} onDay={setDay} />}
          {file === undefined && found.files > 0 && (
            <fieldset className="flex min-w-0 flex-wrap items-center gap-2" aria-label="Which files are shown">
              {isCompared && (
                <>
                  <button type="button" className="btn btn-xs" aria-pressed={shown === "differing"} onClick={() => pick("differing")}>
                    all that go otherwise
                  </button>
                  {found.differing.map((one) => (
                    <button key={one.kind} type="button" className="btn btn-xs" aria-pressed={shown === one.kind} onClick={() => pick(one.kind)}>
                      {one.words}
                    </button>
                  ))}
                  {same > 0 && (
                    <button type="button" className="btn btn-xs" aria-pressed={shown === "same"} onClick={() => pick("same")}>
                      {same.toLocaleString("en-GB")} as before
                    </button>
                  )}
                </>
              )}
              {day && (
                <button type="button" className="btn btn-xs" onClick={() => setDay(undefined)}>
                  only {day} ✕
                </button>
              )}
              <span className="grow" />
              <button type="button" className="link text-sm" onClick={() => void saveAsList(asked, found.rule)}>
                Save as a list
              </button>
            </fieldset>
          )}
          {!isCompared && file === undefined && found.ways.length > 0 && <Ways found={found} />}
          {found.shown.length > 0 && <Files files={found.shown} isCompared={isCompared} label="Files of the rehearsal" />}
          {found.files === 0 && found.left.length === 0 && <p className="panel quiet px-4 py-6">{isPast ? "Nothing came in this time where the rule looks. What comes from now on is on record." : "Nothing lies where the rule looks."}</p>}
          {found.asked_for > found.shown.length && (
            <p>
              <button type="button" className="btn btn-sm" disabled={pages * PAGE >= LIST_PAGE} onClick={() => setPages(pages + 1)}>
                Show more of {found.asked_for.toLocaleString("en-GB")}
              </button>
            </p>
          )}
        </section>
      )}
      <ChooseFile
        place={undefined}
        isOpen={isChoosing}
        onClose={() => setChoosing(false)}
        onChoose={(chosen) => {
          setFiles({ file: chosen.file });
          setChoosing(false);
        }}
      />
    </div>
  );
}
