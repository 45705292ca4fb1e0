/** What of a rule is open below its picture. */
export type Part =
  | { is: "rule" | "starts" | "finds" }
  | { is: "branch" | "original"; branch: number }
  | { is: "step"; branch: number; step: number };

export const sameKey = (part: Part): string => JSON.stringify(part);
