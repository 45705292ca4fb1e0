import { useQuery } from "@tanstack/react-query";
import { createContext, useContext } from "react";
import { type FieldValues, useWatch } from "react-hook-form";

import { type Schemas, api, told } from "../api/client";
import type { Choice, Forms } from "./schema";
import { type Table, type Value, pointer, tables } from "./values";

/** What every field of a form may ask for. */
interface World {
  forms: Forms;
  mistakes: Schemas["DraftMistake"][];
  known: Schemas["KnownValue"][];
  samples: Schemas["DraftSample"][];
}

const Context = createContext<World | undefined>(undefined);
export const WorldOfForm = Context.Provider;

export function useWorld(): World {
  const world = useContext(Context);
  if (!world) throw new Error("a field stands in a form");
  return world;
}

/** What a form says as a whole. */
export const useWhole = (): Table => useWatch<FieldValues>() as unknown as Table;

/** What is wrong with a key; `below` asks for what is wrong inside it, too. */
export function useMistakes(name: string, below = false): Schemas["DraftMistake"][] {
  const here = pointer(name);
  return useWorld().mistakes.filter((mistake) => mistake.pointer === here || (below && mistake.pointer.startsWith(`${here}/`)));
}

/** What placeholders can stand for at a key. */
export function useKnown(name: string): Schemas["KnownValue"][] {
  const holds = {
    anywhere: true,
    "of-files": !name.startsWith("finds."),
    "of-letters": true,
    "of-chains": true,
    "in-failures": name.includes(".on-failure."),
    "in-mails": name.includes(".mail."),
    "in-programs": name.includes(".program."),
  };
  return useWorld().known.filter((one) => holds[one.known]);
}

/** What a text with placeholders becomes for the file that the rule is tried with. */
export function useSample(name: string): Schemas["DraftSample"] | undefined {
  const here = pointer(name);
  return useWorld().samples.find((sample) => sample.pointer === here);
}

/** What a form may name, and how that is asked for. */
const LISTS: Record<string, { key: string; list: () => Promise<Choice[]> }> = {
  place: { key: "places", list: async () => named(await told(api.GET("/api/v1/places"))) },
  partner: { key: "partners", list: async () => named(await told(api.GET("/api/v1/partners"))) },
  key: { key: "keys", list: async () => named(await told(api.GET("/api/v1/keys"))) },
  calendar: { key: "calendars", list: async () => named(await told(api.GET("/api/v1/calendars"))) },
  database: { key: "databases", list: async () => named(await told(api.GET("/api/v1/databases"))) },
  "secret-name": { key: "secrets", list: async () => named(await told(api.GET("/api/v1/secrets"))) },
  rule: { key: "rules", list: async () => named(await told(api.GET("/api/v1/rules"))) },
};

function named(list: { name: string; title?: string | null }[]): Choice[] {
  return list.map(({ name, title }) => ({ value: name, label: title && title !== name ? `${title} (${name})` : name, about: "" }));
}

/** Whether a text names something that can be picked. */
export const isNamed = (holds: string): boolean => holds in LISTS || holds === "branch";

/** What there is to pick from. */
export function useNames(holds: string): Choice[] {
  const asked = LISTS[holds];
  const { data } = useQuery({
    queryKey: ["live", "named", asked?.key ?? ""],
    queryFn: () => asked?.list() ?? [],
    enabled: asked !== undefined,
  });
  const branches = tables(useWatch({ name: "branch" }) as Value | undefined);
  if (holds !== "branch") return data ?? [];
  return branches.flatMap(({ title }) => (typeof title === "string" ? [{ value: title, label: title, about: "" }] : []));
}
