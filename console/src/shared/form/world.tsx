import { createContext, useContext } from "react";
import { type FieldValues, useWatch } from "react-hook-form";

import type { Schemas } from "../api/client";
import type { Forms } from "./schema";
import { type Table, pointer } from "./values";

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
