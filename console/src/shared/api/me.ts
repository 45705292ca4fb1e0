import { queryOptions, useQuery } from "@tanstack/react-query";

import { type Schemas, api, told } from "./client";

export type Role = Schemas["Role"];

/** Every role, from the one that may do least. */
export const ROLES: readonly Role[] = ["viewer", "operator", "manager", "owner"];

/** What each role may do. */
export const ROLE_WORDS: Record<Role, string> = {
  viewer: "looks",
  operator: "also releases, retries, runs and settles",
  manager: "also arranges",
  owner: "also people and settings",
};

/** Who one is, and what one may do. */
export const meQuery = queryOptions({ queryKey: ["live", "me"], queryFn: () => told(api.GET("/api/v1/session")), staleTime: 10_000 });

/** How one may sign in besides name and password. */
export const waysQuery = queryOptions({ queryKey: ["live", "ways"], queryFn: () => told(api.GET("/api/v1/sign-in-ways")), staleTime: 60_000 });

/** Goes to the provider, who sends one back. */
export async function toProvider(why: Schemas["AskProvider"]): Promise<void> {
  const { address } = await told(api.POST("/api/v1/session/provider/new", { body: why }));
  window.location.assign(address);
}

/**
 * Whether one may do what needs a role, if only within a group. The service asks anew with each call, and says where one may not:
 * this only spares what would be refused in any case.
 */
export function useMay(role: Role): boolean {
  const { data } = useQuery(meQuery);
  return data !== undefined && [data.role, ...Object.values(data.groups)].some((one) => ROLES.indexOf(one) >= ROLES.indexOf(role));
}
