import { queryOptions } from "@tanstack/react-query";

import { api, told } from "../../shared/api/client";

/** People come and go without anybody being told. */
const OFTEN = 15_000;

export const accountsQuery = queryOptions({
  queryKey: ["live", "accounts"],
  queryFn: () => told(api.GET("/api/v1/accounts")),
  refetchInterval: OFTEN,
});

export const accountQuery = (name: string) =>
  queryOptions({
    queryKey: ["live", "account", name],
    queryFn: () => told(api.GET("/api/v1/accounts/{name}", { params: { path: { name } } })),
    refetchInterval: OFTEN,
  });

export const visitsQuery = (account: string) =>
  queryOptions({
    queryKey: ["live", "visits", account],
    queryFn: () => told(api.GET("/api/v1/visits", { params: { query: { account, limit: 20 } } })),
    refetchInterval: OFTEN,
  });

export const exchangesQuery = (of: { account?: string; partner?: string }) =>
  queryOptions({
    queryKey: ["live", "exchanges", of],
    queryFn: () => told(api.GET("/api/v1/exchanges", { params: { query: { ...of, limit: 20 } } })),
    refetchInterval: OFTEN,
  });

export const receptionQuery = queryOptions({ queryKey: ["live", "reception"], queryFn: () => told(api.GET("/api/v1/reception")) });
