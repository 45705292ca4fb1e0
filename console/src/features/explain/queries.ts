import { queryOptions } from "@tanstack/react-query";

import { api, told } from "../../shared/api/client";

export const explainQuery = (rule: string | undefined, file: string) =>
  queryOptions({
    queryKey: ["explain", rule, file],
    queryFn: () => told(api.GET("/api/v1/explain", { params: { query: rule === undefined ? { file } : { file, rule } } })),
    enabled: file.includes(":"),
    refetchInterval: false,
    retry: false,
  });
