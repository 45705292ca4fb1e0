import { useEffect, useState } from "react";
import { type FieldValues, useForm, useWatch } from "react-hook-form";

import type { Schemas } from "../../../shared/api/client";
import type { Field, Forms } from "../../../shared/form/schema";
import { type Draft, type Proposal, useDraft } from "../../../shared/form/useDraft";
import { keep, kept } from "../../../shared/form/kept";
import { type Table, filled, stripped } from "../../../shared/form/values";

interface Options {
  kind: string;
  forms: Forms;
  fields: Field[];
  /** Its name; empty for a new one. */
  name: string;
  /** The text in force; for a new one, what it begins with. */
  begin: string;
  first: Draft;
  /** The file it is tried with unless another one is chosen. */
  usual: Schemas["SampleFile"] | undefined;
}

/** A section in two hands: what is said by form is the text, and what is typed as text is in the form. */
export function useEditor({ kind, forms, fields, name: known, begin, first, usual }: Options) {
  const base = known === "" ? "" : begin;
  // A new one is written anew with each change, as nicely as can be, until somebody types in its text.
  const fresh = known === "" ? undefined : begin;
  const [before] = useState(() => kept(kind, known));
  const begun = before ?? { name: first.name, value: first.value as Table, old: fresh, base };
  const [name, setName] = useState(begun.name);
  const [old, setOld] = useState(begun.old);
  const [typed, setTyped] = useState<string>();
  const [picked, setSample] = useState<Schemas["SampleFile"]>();
  const sample = picked ?? usual;
  const form = useForm<FieldValues>({ defaultValues: filled(forms, fields, begun.value) });
  const values = useWatch({ control: form.control }) as unknown as Table;
  const value = stripped(values) as Table;
  const proposal: Proposal = typed === undefined ? { name, value, old, sample } : { text: typed, sample };
  const { draft = first, isBehind, error } = useDraft(kind, proposal, before || sample ? undefined : first);
  const text = typed ?? draft.text;
  const isChanged = text !== base;

  // What was typed as text is what the form has from then on; the form's next change keeps its comments.
  const isTyped = typed !== undefined;
  const takeOver = () => {
    if (!isTyped || isBehind || draft.name === "") return;
    form.reset(filled(forms, fields, draft.value as Table));
    setName(draft.name);
    setOld(draft.text);
    setTyped(undefined);
  };

  useEffect(() => {
    if (isBehind) return;
    // A text that cannot be read is kept as it is: the form's last state goes with it.
    keep(kind, known, isChanged ? { name: draft.name || name, value: draft.name === "" ? value : (draft.value as Table), old: old && draft.text, base: begun.base } : undefined);
  });

  const discard = () => {
    keep(kind, known, undefined);
    form.reset(filled(forms, fields, first.value as Table));
    setName(first.name);
    setOld(fresh);
    setTyped(undefined);
  };
  return { form, name, setName, draft, text, isBehind, error, isChanged, isTyped, sample, setSample, setTyped, takeOver, discard, isKept: before !== undefined, isStale: begun.base !== base };
}

export type Editor = ReturnType<typeof useEditor>;
