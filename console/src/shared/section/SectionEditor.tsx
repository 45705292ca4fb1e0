import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { FormProvider } from "react-hook-form";

import { Fields } from "../form/Field";
import { Labelled, Mistakes } from "../form/Labelled";
import { Texts } from "../form/inputs";
import { type Field, type Forms, formsQuery } from "../form/schema";
import type { Draft } from "../form/useDraft";
import { WorldOfForm } from "../form/world";
import { Shown } from "../ui/states";
import { Tabs } from "../ui/Tabs";
import { AsText } from "./AsText";
import { Bar } from "./Bar";
import { Changes } from "./Changes";
import { Stale } from "./Stale";
import { type InForce, draftQuery, useEditor } from "./useEditor";

interface Props {
  kind: "partner" | "account" | "calendar" | "database" | "place" | "twin";
  /** Its name; empty for a new one. */
  name: string;
  slot?: string;
  /** The text in force; for a new one, what it begins with. */
  text: string;
  version: number | undefined;
  /** The keys that it may have. */
  fields: (forms: Forms, draft: Draft) => Field[];
  onDone: (name: string) => void;
}

const TABS = ["form", "text", "changes"] as const;
const WORDS = { form: "Form", text: "Text", changes: "Changes" };

/** A section of the book by form and by text, with what was changed in it. */
export function SectionEditor({ text, version, ...rest }: Props) {
  const latest = { text, version };
  const [begun, setBegun] = useState<InForce>(latest);
  const forms = useQuery(formsQuery);
  const first = useQuery(draftQuery(rest.kind, begun.text));
  return (
    <Shown query={forms}>
      {(known) => (
        <Shown query={first}>
          {(draft) => <Editing key={begun.version} {...rest} {...{ begun, latest }} onFollow={() => setBegun(latest)} forms={known} first={draft} />}
        </Shown>
      )}
    </Shown>
  );
}

interface EditingProps extends Omit<Props, "text" | "version"> {
  forms: Forms;
  first: Draft;
  begun: InForce;
  latest: InForce;
  onFollow: () => void;
}

function Editing({ kind, name, slot, fields, onDone, forms, first, begun, latest, onFollow }: EditingProps) {
  const [tab, setTab] = useState<(typeof TABS)[number]>("form");
  const shown = fields(forms, first);
  const editor = useEditor({ kind, forms, fields: shown, name, slot, begun, latest, onFollow, first, usual: undefined });
  const { draft, form } = editor;
  useEffect(() => {
    if (tab === "form") editor.takeOver();
  });
  const isNew = name === "";
  const isReadable = !editor.isTyped || draft.name !== "";
  return (
    <WorldOfForm value={{ forms, mistakes: draft.mistakes, known: draft.known, samples: draft.samples, before: editor.before }}>
      <FormProvider {...form}>
        <div className="grid gap-3">
          {kind === "twin" && draft.sentence && <p className="max-w-[52rem]">{draft.sentence}</p>}
          {!isNew && <Stale editor={editor} kind={kind} name={name} />}
          {editor.error && (
            <p role="alert" className="text-error">
              {editor.error.message}
            </p>
          )}
          <Tabs label={`The ${kind}`} tabs={isNew ? TABS.slice(0, 2) : TABS} words={WORDS} tab={tab} onTab={setTab}>
            <div className="panel">
              <div className="fields grid gap-4 px-5 py-4">
                {tab === "form" && isReadable && (
                  <>
                    {isNew && (
                      <Labelled label="Name in the book" help="How rules and people call it: a to z, digits, dashes." needed mistakes={[]}>
                        {(aria) => <Texts aria={aria} holds="" value={editor.name} onChange={(to) => editor.setName(typeof to === "string" ? to : "")} />}
                      </Labelled>
                    )}
                    <Mistakes name="" />
                    <Fields fields={shown} path="" />
                  </>
                )}
                {tab === "form" && !isReadable && <p role="alert">The text has to be readable before it can be changed by form.</p>}
                {(tab === "text" || (tab === "form" && !isReadable)) && <AsText editor={editor} kind={kind} />}
                {tab === "changes" && <Changes kind={kind} name={name} />}
              </div>
            </div>
          </Tabs>
          <Bar editor={editor} kind={kind} onDone={onDone} />
        </div>
      </FormProvider>
    </WorldOfForm>
  );
}
