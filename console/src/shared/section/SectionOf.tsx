import { useQuery } from "@tanstack/react-query";

import type { Field, Forms } from "../form/schema";
import type { Draft } from "../form/useDraft";
import { Shown } from "../ui/states";
import { SectionEditor } from "./SectionEditor";
import { sectionQuery } from "./Stale";

/** The fields of a kind of section; of one that has kinds, those of its own. */
export function fieldsOfKind(kind: string): (forms: Forms, draft: Draft) => Field[] {
  if (kind !== "place" && kind !== "database") return (forms) => forms.sections[kind] ?? [];
  return (forms, draft) => (kind === "place" ? forms.places : forms.databases).find((one) => one.kind === draft.value.kind)?.fields ?? [];
}

interface Props {
  kind: "partner" | "account" | "calendar" | "database" | "place" | "twin";
  name: string;
}

/** A section that is in force, to be changed by form or by text. */
export function SectionOf({ kind, name }: Props) {
  return (
    <Shown query={useQuery(sectionQuery(kind, name))}>
      {(section) =>
        section.text === null || section.text === undefined ? null : (
          <SectionEditor kind={kind} name={name} text={section.text} version={section.version ?? undefined} fields={fieldsOfKind(kind)} onDone={() => undefined} />
        )
      }
    </Shown>
  );
}
