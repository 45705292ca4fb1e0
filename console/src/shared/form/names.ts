import { useQuery } from "@tanstack/react-query";
import { useWatch } from "react-hook-form";

import { api, told } from "../api/client";
import type { Choice } from "./schema";
import { type Value, tables } from "./values";

/** What a form may name, and how that is asked for. */
const LISTS: Record<string, { key: string; list: () => Promise<Choice[]> }> = {
  place: { key: "places", list: async () => named(await told(api.GET("/api/v1/places"))) },
  partner: { key: "partners", list: async () => named(await told(api.GET("/api/v1/partners"))) },
  account: { key: "accounts", list: async () => named(await told(api.GET("/api/v1/accounts"))) },
  key: { key: "keys", list: async () => named(await told(api.GET("/api/v1/keys"))) },
  calendar: { key: "calendars", list: async () => named(await told(api.GET("/api/v1/calendars"))) },
  database: { key: "databases", list: async () => named(await told(api.GET("/api/v1/databases"))) },
  twin: { key: "twins", list: async () => named(await told(api.GET("/api/v1/twins"))) },
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
  return data ?? [];
}

/** The titles of a rule's branches, for what leads to one. */
export function useBranches(): Choice[] {
  const branches = tables(useWatch({ name: "branch" }) as Value | undefined);
  return branches.flatMap(({ title }) => (typeof title === "string" ? [{ value: title, label: title, about: "" }] : []));
}
