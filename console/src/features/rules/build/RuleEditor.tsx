import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { FormProvider } from "react-hook-form";
import { useNavigate } from "react-router";

import type { Rule } from "../../../shared/api/client";
import { Labelled } from "../../../shared/form/Labelled";
import { Texts } from "../../../shared/form/inputs";
import { type Forms, formsQuery } from "../../../shared/form/schema";
import type { Draft } from "../../../shared/form/useDraft";
import { type Table, at, texts } from "../../../shared/form/values";
import { WorldOfForm } from "../../../shared/form/world";
import { AsText } from "../../../shared/section/AsText";
import { Bar } from "../../../shared/section/Bar";
import { Stale } from "../../../shared/section/Stale";
import { type Editor, type InForce, draftQuery, useEditor } from "../../../shared/section/useEditor";
import { Shown } from "../../../shared/ui/states";
import { ruleRunsQuery } from "../queries";
import { Rehearse } from "../rehearse/Rehearse";
import { EditedCrossing } from "./EditedCrossing";
import { OpenPart } from "./OpenPart";
import { type Part, sameKey } from "./parts";
import { TryIt } from "./TryIt";

interface Props {
  /** Its name; empty for a new rule. */
  name: string;
  /** The text in force; for a new rule, what it begins with. */
  text: string;
  rule?: Rule;
  tab: "build" | "text" | "rehearse";
}

/** Makes or changes a rule, by form and by text. */
export function RuleEditor({ name, text, rule, tab }: Props) {
  const latest = { text, version: rule?.version };
  const [begun, setBegun] = useState<InForce>(latest);
  const [open, setOpen] = useState<Part>({ is: name === "" ? "rule" : "starts" });
  const forms = useQuery(formsQuery);
  const first = useQuery(draftQuery("rule", begun.text));
  return (
    <Shown query={forms}>
      {(known) => (
        <Shown query={first}>
          {(draft) => (
            <Editing key={begun.version} {...{ name, rule, tab, open, begun, latest }} onOpen={setOpen} onFollow={() => setBegun(latest)} forms={known} first={draft} />
          )}
        </Shown>
      )}
    </Shown>
  );
}

interface Editing extends Omit<Props, "text"> {
  forms: Forms;
  first: Draft;
  begun: InForce;
  latest: InForce;
  onFollow: () => void;
  open: Part;
  onOpen: (part: Part) => void;
}

function Editing({ name, rule, tab, forms, first, begun, latest, onFollow, open, onOpen: setOpen }: Editing) {
  const isNew = name === "";
  const { data } = useQuery({ ...ruleRunsQuery(name), enabled: !isNew, refetchInterval: false });
  const last = data?.runs.find(({ file }) => file !== "" && !file.endsWith("/"));
  const usual = last && rule?.place ? { file: `${rule.place}:/${last.file}`, size: last.size, modified: last.started } : undefined;
  const editor = useEditor({ kind: "rule", forms, fields: forms.sections.rule ?? [], name, begun, latest, onFollow, first, usual });
  const navigate = useNavigate();
  const { draft, form } = editor;
  useEffect(() => {
    if (tab !== "text") editor.takeOver();
  });
  const isReadable = !editor.isTyped || draft.name !== "";
  const named = isNew && (
    <Labelled label="Name" help="How other rules and people call it: a to z, digits, dashes." needed mistakes={[]}>
      {(aria) => <Texts aria={aria} holds="" value={editor.name} onChange={(to) => editor.setName(String(to ?? ""))} />}
    </Labelled>
  );
  return (
    <WorldOfForm value={{ forms, mistakes: draft.mistakes, known: draft.known, samples: draft.samples, before: editor.before }}>
      <FormProvider {...form}>
        <div className="grid grid-cols-1 gap-4">
          {editor.error && (
            <p role="alert" className="text-error">
              {editor.error.message}
            </p>
          )}
          {!isNew && <Stale editor={editor} kind="rule" name={name} />}
          <p className="max-w-[52rem] [overflow-wrap:anywhere]" aria-live="polite">
            {draft.sentence ? <Sentence draft={draft} open={tab === "build" ? open : undefined} onOpen={tab === "build" ? setOpen : undefined} /> : <span className="quiet">Not finished yet: {draft.mistakes.length === 1 ? "one thing is" : `${draft.mistakes.length} things are`} missing or wrong.</span>}
          </p>
          {tab === "build" && !isReadable && <p role="alert">The text has to be readable before it can be changed by form.</p>}
          {tab === "rehearse" ? (
            <Rehearse editor={editor} name={name} />
          ) : tab === "build" && isReadable ? (
            <>
              <EditedCrossing draft={draft} rule={rule} open={open} onOpen={setOpen} />
              <div className="grid items-start gap-4 lg:grid-cols-[minmax(0,1fr)_20rem]">
                <OpenPart key={JSON.stringify(open)} part={open} onOpen={setOpen} name={named} />
                <Beside editor={editor} open={open} onOpen={setOpen} />
              </div>
            </>
          ) : (
            <AsText editor={editor} kind="rule" />
          )}
          <Bar editor={editor} kind="rule" onDone={(done) => done !== name && void navigate(`/rules/${done}`)} />
        </div>
      </FormProvider>
    </WorldOfForm>
  );
}

/** What the rule does, in a sentence; each part of it opens that part below. */
function Sentence({ draft, open, onOpen }: { draft: Draft; open: Part | undefined; onOpen: ((part: Part) => void) | undefined }) {
  if (!onOpen) return draft.sentence;
  return draft.phrases.map(({ text, pointer }, number) => {
    // oxlint-disable-next-line react/no-array-index-key -- a phrase is its place in the sentence
    if (pointer === null || pointer === undefined) return <span key={number}>{text}</span>;
    const part = partOf(pointer);
    const isOpen = open !== undefined && sameKey(part) === sameKey(open);
    return (
      // oxlint-disable-next-line react/no-array-index-key -- as above
      <a
        key={number}
        href={`#${pointer}`}
        className="phrase"
        aria-current={isOpen || undefined}
        onClick={(event) => {
          event.preventDefault();
          onOpen(part);
        }}
      >
        {text}
      </a>
    );
  });
}

/** Which part a mistake is in. */
function partOf(pointer: string): Part {
  const [, first, branch, key, step] = pointer.split("/");
  const number = Number(branch);
  if (first === "starts") return { is: "starts" };
  if (first === "finds") return { is: "finds" };
  if (first !== "branch" || branch === undefined) return { is: "rule" };
  if (key === "steps" && step !== undefined) return { is: "step", branch: number, step: Number(step) };
  return { is: key === "original" ? "original" : "branch", branch: number };
}

const firing = new Intl.DateTimeFormat(undefined, { weekday: "short", day: "numeric", month: "short", hour: "2-digit", minute: "2-digit" });

/** What is still to be done, and when it fires. */
function Beside({ editor, open, onOpen }: { editor: Editor; open: Part; onOpen: (part: Part) => void }) {
  const { draft } = editor;
  const place = texts(at(draft.value as Table, "starts.arrival.place"))[0];
  return (
    <aside className="panel min-w-0" aria-label="How far it is">
      <div className="grid gap-3 px-4 py-4">
        <button type="button" className="link w-fit" aria-pressed={open.is === "rule"} onClick={() => onOpen({ is: "rule" })}>
          Title, time zone and other settings
        </button>
        {draft.mistakes.length === 0 ? (
          <p className="text-success">✓ It can be put in force.</p>
        ) : (
          <section aria-label="Mistakes">
            <h2 className="pb-1 font-semibold">To be finished</h2>
            <ul className="grid gap-2 text-sm">
              {draft.mistakes.map((mistake) => (
                <li key={`${mistake.pointer} ${mistake.message}`} className="[overflow-wrap:anywhere]">
                  <button type="button" className="link text-left" onClick={() => onOpen(partOf(mistake.pointer))}>
                    {mistake.message}
                  </button>
                  <span className="quiet"> line {mistake.line}</span>
                </li>
              ))}
            </ul>
          </section>
        )}
        <TryIt editor={editor} place={place} />
        {draft.firings.length > 0 && (
          <section aria-label="Next firings">
            <h2 className="pb-1 font-semibold">Next firings</h2>
            <ol className="text-sm">
              {draft.firings.map((fires) => (
                <li key={fires}>{firing.format(new Date(fires))}</li>
              ))}
            </ol>
          </section>
        )}
      </div>
    </aside>
  );
}
