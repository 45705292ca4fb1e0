import { infiniteQueryOptions, queryOptions } from "@tanstack/react-query";

import { api, told } from "../../shared/api/client";

export const calendarsQuery = queryOptions({ queryKey: ["live", "calendars"], queryFn: () => told(api.GET("/api/v1/calendars")) });
export const databasesQuery = queryOptions({ queryKey: ["live", "databases"], queryFn: () => told(api.GET("/api/v1/databases")) });
export const keysQuery = queryOptions({ queryKey: ["live", "keys"], queryFn: () => told(api.GET("/api/v1/keys")) });
export const secretsQuery = queryOptions({ queryKey: ["live", "secrets"], queryFn: () => told(api.GET("/api/v1/secrets")) });

/** How much of what came stays on record. */
export const arrivalsKeptQuery = queryOptions({ queryKey: ["live", "arrivals", "kept"], queryFn: () => told(api.GET("/api/v1/arrivals/kept")) });

export const usersQuery = queryOptions({ queryKey: ["live", "users"], queryFn: () => told(api.GET("/api/v1/users")) });
export const passkeysQuery = queryOptions({ queryKey: ["live", "passkeys"], queryFn: () => told(api.GET("/api/v1/me/passkeys")) });
export const providerQuery = queryOptions({ queryKey: ["live", "provider"], queryFn: async () => (await told(api.GET("/api/v1/provider"))) ?? null });
export const tokensQuery = queryOptions({ queryKey: ["live", "tokens"], queryFn: () => told(api.GET("/api/v1/tokens")) });
export const sessionsQuery = (all: boolean) => queryOptions({ queryKey: ["live", "sessions", all], queryFn: () => told(api.GET("/api/v1/sessions", { params: { query: { all } } })) });

/** Who changed or did what, a page at a time. */
export const auditQuery = infiniteQueryOptions({
  queryKey: ["live", "audit"],
  queryFn: ({ pageParam }) => told(api.GET("/api/v1/audit", { params: { query: pageParam === undefined ? {} : { before: pageParam } } })),
  initialPageParam: undefined as number | undefined,
  getNextPageParam: (page) => page.next ?? undefined,
});
