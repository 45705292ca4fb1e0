import { queryOptions, useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { type FieldValues, useForm, useWatch } from "react-hook-form";

import { api, told } from "../api/client";
import type { Field, Forms } from "../form/schema";
import { type Draft, type Proposal, useDraft } from "../form/useDraft";
import { keep, kept } from "../form/kept";
import { type Table, at, filled, merged3, stripped, texts } from "../form/values";
import { cameQuery } from "../rehearse/queries";
import { type Sample, sampleOf } from "../ui/ChooseFile";

/** A text of the book; a new one has no version. */
export interface InForce {
  text: string;
  version: number | undefined;
}

interface Options {
  kind: string;
  forms: Forms;
  fields: Field[];
  /** Its name; empty for a new one. */
  name: string;
  /** Under what a new one is kept, where there are several kinds of it. */
  slot?: string | undefined;
  /** What it is made of: the text that was in force when the page was opened, or what a new one begins with. */
  begun: InForce;
  /** What is in force now. */
  latest: InForce;
  /** Begins anew with what is in force now. */
  onFollow: () => void;
  first: Draft;
  /** The file it is tried with unless another one is chosen, or came. */
  usual: Sample | undefined;
}

/** What the service says of a text, before anything is changed in it. */
export const draftQuery = (kind: string, text: string) =>
  queryOptions({
    queryKey: ["draft", kind, text],
    queryFn: () => told(api.POST("/api/v1/drafts/{kind}", { params: { path: { kind } }, body: { text } })),
    staleTime: Number.POSITIVE_INFINITY,
    refetchInterval: false,
  });

/** The file that came last where a rule looks. */
function useNewest(value: Table): Sample | undefined {
  const [place, folder] = [texts(at(value, "starts.arrival.place"))[0], texts(at(value, "starts.arrival.folder"))[0]];
  const { data } = useQuery({ ...cameQuery(place ?? "", folder ?? ""), enabled: Boolean(place) });
  const newest = data?.[0];
  return newest && sampleOf(newest);
}

/** A section in two hands: what is said by form is the text, and what is typed as text is in the form. */
export function useEditor({ kind, forms, fields, name: known, slot = known, begun: { text: begin, version }, latest, onFollow, first, usual }: Options) {
  const base = known === "" ? "" : begin;
  // A new one is written anew with each change, as nicely as can be, until somebody types in its text.
  const fresh = known === "" ? undefined : begin;
  const [before] = useState(() => kept(kind, slot));
  const [isDone, setDone] = useState(false);
  const from = before ?? { name: first.name, value: first.value as Table, old: fresh, base, version };
  const [name, setName] = useState(from.name);
  const [ground, setGround] = useState({ base: from.base, version: from.version });
  const [old, setOld] = useState(from.old);
  const [typed, setTyped] = useState<string>();
  const [picked, setSample] = useState<Sample>();
  const form = useForm<FieldValues>({ defaultValues: filled(forms, fields, from.value) });
  const values = useWatch({ control: form.control }) as unknown as Table;
  const value = stripped(values) as Table;
  const newest = useNewest(value);
  const sample = picked ?? newest ?? usual;
  const tried = sample && { file: sample.file, size: sample.size, modified: sample.modified };
  const proposal: Proposal = typed === undefined ? { name, value, old, sample: tried } : { text: typed, sample: tried };
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

  const isOvertaken = known !== "" && latest.text !== begin;
  useEffect(() => {
    if (isOvertaken && (isDone || !isChanged)) onFollow();
  });
  useEffect(() => {
    if (isBehind || isDone) return;
    // A text that cannot be read is kept as it is: the form's last state goes with it.
    keep(kind, slot, isChanged ? { name: draft.name || name, value: draft.name === "" ? value : (draft.value as Table), old: old && draft.text, ...ground } : undefined);
  });

  const done = () => {
    keep(kind, slot, undefined);
    setDone(true);
  };
  const discard = () => {
    keep(kind, slot, undefined);
    if (isOvertaken) return onFollow();
    form.reset(filled(forms, fields, first.value as Table));
    setName(first.name);
    setOld(fresh);
    setTyped(undefined);
    setGround({ base, version });
  };
  // What somebody else put in force meanwhile comes into the draft; where both changed the same, the draft's own stays.
  const merge = async () => {
    const read = (one: string) => told(api.POST("/api/v1/drafts/{kind}", { params: { path: { kind } }, body: { text: one } }));
    const [both, theirs] = await Promise.all([read(ground.base), read(latest.text)]);
    const merged = merged3(both.value as Table, stripped(form.getValues() as Table) as Table, theirs.value as Table);
    form.reset(filled(forms, fields, merged as Table));
    setOld(latest.text);
    setTyped(undefined);
    setGround({ base: latest.text, version: latest.version });
  };
  return { form, before: known === "" ? undefined : (first.value as Table), name, setName, draft, text, isBehind, error, isChanged, isTyped, sample, setSample, setTyped, takeOver, discard, ground, done, merge, isStale: known !== "" && !isDone && latest.text !== ground.base };
}

export type Editor = ReturnType<typeof useEditor>;
