import { infiniteQueryOptions, queryOptions } from "@tanstack/react-query";

import { type Run, type RunPage, api, query } from "../../shared/api/client";

export const runsQuery = (filter: { rule?: string; state?: string }) =>
  infiniteQueryOptions({
    queryKey: ["live", "runs", filter],
    queryFn: ({ pageParam }) => api.get<RunPage>(`/runs${query({ ...filter, before: pageParam, limit: 50 })}`),
    initialPageParam: undefined as number | undefined,
    getNextPageParam: (page) => page.next ?? undefined,
  });

export const runQuery = (id: string) =>
  queryOptions({
    queryKey: ["live", "runs", "one", id],
    queryFn: () => api.get<Run>(`/runs/${encodeURIComponent(id)}`),
    refetchInterval: (one) => (one.state.data?.state === "running" ? 700 : 10_000),
  });
