import { createContext, useContext } from "react";
import { type FieldValues, useWatch } from "react-hook-form";

import type { Schemas } from "../api/client";
import type { Forms } from "./schema";
import { type Table, type Value, at, isTable, pointer, same, stripped } from "./values";

/** What every field of a form may ask for. */
interface World {
  forms: Forms;
  mistakes: Schemas["DraftMistake"][];
  known: Schemas["KnownValue"][];
  samples: Schemas["DraftSample"][];
  /** What is in force, where something is. */
  before?: Table | undefined;
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

/** What stood at a key before, if it is another now. In a list that became longer or shorter nobody can tell what was where. */
export function useBefore(name: string, value: Value): { was: Value } | undefined {
  const { before } = useWorld();
  const now = useWhole();
  if (!before) return undefined;
  const parts = name.split(".");
  for (let length = 1; length < parts.length; length += 1) {
    const above = parts.slice(0, length).join(".");
    const [was, is] = [at(before, above), at(now, above)];
    if (Array.isArray(was) !== Array.isArray(is) || (Array.isArray(was) && Array.isArray(is) && was.length !== is.length)) return undefined;
    if (isTable(was) !== isTable(is)) return undefined;
  }
  const was = at(before, name) ?? null;
  return same(stripped(was), stripped(value)) ? undefined : { was };
}

/** What placeholders can stand for at a key. */
export function useKnown(name: string): Schemas["KnownValue"][] {
  const holds = {
    anywhere: true,
    "of-files": !name.startsWith("finds."),
    "of-letters": true,
    "of-chains": true,
    "of-accounts": true,
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
