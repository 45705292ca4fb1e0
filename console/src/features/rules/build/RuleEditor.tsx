import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { FormProvider } from "react-hook-form";
import { useNavigate } from "react-router";

import { type Rule, api, told } from "../../../shared/api/client";
import { Labelled } from "../../../shared/form/Labelled";
import { Texts } from "../../../shared/form/inputs";
import { type Forms, formsQuery } from "../../../shared/form/schema";
import type { Draft } from "../../../shared/form/useDraft";
import { type Table, at, texts } from "../../../shared/form/values";
import { WorldOfForm } from "../../../shared/form/world";
import { Difference } from "../../../shared/ui/BookText";
import { Dialog } from "../../../shared/ui/Dialog";
import { Shown } from "../../../shared/ui/states";
import { ruleRunsQuery } from "../queries";
import { EditedCrossing } from "./EditedCrossing";
import { OpenPart } from "./OpenPart";
import type { Part } from "./parts";
import { TryIt } from "./TryIt";
import { type Editor, useEditor } from "./useEditor";

interface Props {
  /** Its name; empty for a new rule. */
  name: string;
  /** The text in force; for a new rule, what it begins with. */
  text: string;
  rule?: Rule;
  tab: "build" | "text";
}

/** Makes or changes a rule, by form and by text. */
export function RuleEditor(props: Props) {
  const forms = useQuery(formsQuery);
  const first = useQuery({
    queryKey: ["draft", "rule", props.text],
    queryFn: () => told(api.POST("/api/v1/drafts/{kind}", { params: { path: { kind: "rule" } }, body: { text: props.text } })),
    staleTime: Number.POSITIVE_INFINITY,
    refetchInterval: false,
  });
  return <Shown query={forms}>{(known) => <Shown query={first}>{(draft) => <Editing {...props} forms={known} first={draft} />}</Shown>}</Shown>;
}

function Editing({ name, text, rule, tab, forms, first }: Props & { forms: Forms; first: Draft }) {
  const isNew = name === "";
  const { data } = useQuery({ ...ruleRunsQuery(name), enabled: !isNew, refetchInterval: false });
  const last = data?.runs.find(({ file }) => file !== "" && !file.endsWith("/"));
  const usual = last && rule?.place && { file: `${rule.place}:/${last.file}`, size: last.size, modified: last.started };
  const editor = useEditor({ kind: "rule", forms, fields: forms.sections.rule ?? [], name, begin: text, first, usual: usual || undefined });
  const [open, setOpen] = useState<Part>({ is: isNew ? "rule" : "starts" });
  const { draft, form } = editor;
  useEffect(() => {
    if (tab === "build") editor.takeOver();
  });
  const isReadable = !editor.isTyped || draft.name !== "";
  const named = isNew && (
    <Labelled label="Name" help="How other rules and people call it: a to z, digits, dashes." needed mistakes={[]}>
      {(aria) => <Texts aria={aria} holds="" value={editor.name} onChange={(to) => editor.setName(String(to ?? ""))} />}
    </Labelled>
  );
  return (
    <WorldOfForm value={{ forms, mistakes: draft.mistakes, known: draft.known, samples: draft.samples }}>
      <FormProvider {...form}>
        <div className="grid grid-cols-1 gap-4">
          {editor.error && (
            <p role="alert" className="text-error">
              {editor.error.message}
            </p>
          )}
          {editor.isStale && (
            <p role="alert" className="text-warning-content bg-warning rounded px-3 py-2">
              The rule was changed since this draft was begun. Compare before you put it in force, or discard the draft.
            </p>
          )}
          <p className="max-w-[52rem] [overflow-wrap:anywhere]" aria-live="polite">
            {draft.sentence ?? <span className="quiet">Not finished yet: {draft.mistakes.length === 1 ? "one thing is" : `${draft.mistakes.length} things are`} missing or wrong.</span>}
          </p>
          {tab === "build" && !isReadable && <p role="alert">The text has to be readable before it can be changed by form.</p>}
          {tab === "build" && isReadable ? (
            <>
              <EditedCrossing draft={draft} rule={rule} open={open} onOpen={setOpen} />
              <div className="grid items-start gap-4 lg:grid-cols-[minmax(0,1fr)_20rem]">
                <OpenPart key={JSON.stringify(open)} part={open} onOpen={setOpen} name={named} />
                <Beside editor={editor} open={open} onOpen={setOpen} />
              </div>
            </>
          ) : (
            <AsText editor={editor} />
          )}
          <Bar editor={editor} name={name} base={isNew ? "" : text} />
        </div>
      </FormProvider>
    </WorldOfForm>
  );
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
        <TryIt draft={draft} place={place} file={editor.sample} onFile={editor.setSample} />
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

function AsText({ editor }: { editor: Editor }) {
  const { text, draft } = editor;
  return (
    <div className="grid gap-3">
      <label className="grid gap-1">
        <span className="sr-only">The rule as text</span>
        <textarea
          className="textarea file w-full leading-snug"
          spellCheck={false}
          rows={Math.min(28, Math.max(10, text.split("\n").length + 1))}
          value={text}
          onChange={(event) => editor.setTyped(event.target.value)}
        />
      </label>
      {draft.mistakes.length > 0 && (
        <ul role="alert" className="text-error grid gap-1">
          {draft.mistakes.map((mistake) => (
            <li key={`${mistake.pointer} ${mistake.message}`} className="whitespace-pre-wrap">
              line {mistake.line}: {mistake.message}
            </li>
          ))}
        </ul>
      )}
    </div>
  );
}

/** What is not in force yet, and how it gets there. */
function Bar({ editor, name, base }: { editor: Editor; name: string; base: string }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const [isComparing, setComparing] = useState(false);
  const { draft, text, isBehind } = editor;
  const proposal = { files: [{ name: "this rule", text }], whole: false };
  const diff = useMutation({ mutationFn: () => told(api.POST("/api/v1/book/diff", { body: proposal })) });
  const apply = useMutation({
    mutationFn: () => told(api.POST("/api/v1/book/apply", { body: proposal })),
    onSuccess: async () => {
      editor.discard();
      await client.invalidateQueries({ queryKey: ["live"] });
      if (draft.name !== name) await navigate(`/rules/${draft.name}`);
    },
  });
  if (!editor.isChanged && !apply.error) return null;
  return (
    <section aria-label="Not in force yet" className="bar bg-base-100 border-warning sticky bottom-0 z-10 flex flex-wrap items-center gap-3 border-t-2 px-4 py-3">
      <p className="min-w-0 flex-1 [overflow-wrap:anywhere]">
        {apply.error ? (
          <span role="alert" className="text-error whitespace-pre-wrap">
            {apply.error.message}
          </span>
        ) : (
          <>
            <span className="font-semibold">{base === "" ? "A new rule, not in force yet." : "Changes not in force."}</span>{" "}
            <span className="quiet">{draft.mistakes.length > 0 ? `${draft.mistakes.length} to be finished first.` : "Kept in this browser until then."}</span>
          </>
        )}
      </p>
      <button
        type="button"
        className="btn btn-sm"
        disabled={draft.mistakes.length > 0 || isBehind}
        onClick={() => {
          diff.mutate();
          setComparing(true);
        }}
      >
        Compare
      </button>
      <button type="button" className="btn btn-sm" onClick={editor.discard}>
        Discard
      </button>
      <button type="button" className="btn btn-primary btn-sm" disabled={draft.mistakes.length > 0 || isBehind || apply.isPending} onClick={() => apply.mutate()}>
        Put in force
      </button>
      <Dialog title="What would change" open={isComparing} onClose={() => setComparing(false)}>
        <Shown query={{ ...diff, refetch: () => diff.mutate() }}>{(shown) => <Difference diff={shown} />}</Shown>
        <p className="pt-3">
          <button type="button" className="btn btn-sm" onClick={() => setComparing(false)}>
            Close
          </button>
        </p>
      </Dialog>
    </section>
  );
}
