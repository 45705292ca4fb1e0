import { infiniteQueryOptions, queryOptions } from "@tanstack/react-query";

import { api, told } from "../../shared/api/client";

/** The states that runs can be looked for by. */
export const runStates = ["running", "held", "done", "skipped"] as const;

export const runsQuery = (filter: { rule: string; state: string }) =>
  infiniteQueryOptions({
    queryKey: ["live", "runs", filter],
    queryFn: ({ pageParam }) => {
      const query = { rule: filter.rule || undefined, state: runStates.find((state) => state === filter.state), before: pageParam, limit: 50 };
      return told(api.GET("/api/v1/runs", { params: { query } }));
    },
    initialPageParam: undefined as number | undefined,
    getNextPageParam: (page) => page.next ?? undefined,
  });

export const runQuery = (id: string) =>
  queryOptions({
    queryKey: ["live", "runs", "one", id],
    queryFn: () => told(api.GET("/api/v1/runs/{id}", { params: { path: { id: Number(id) } } })),
    refetchInterval: (one) => (one.state.data?.state === "running" ? 700 : 10_000),
  });
