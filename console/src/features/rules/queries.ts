import { queryOptions } from "@tanstack/react-query";

import { type Explained, type Rule, type RuleSummary, type RunPage, api, query } from "../../shared/api/client";

export const rulesQuery = queryOptions({ queryKey: ["live", "rules"], queryFn: () => api.get<RuleSummary[]>("/rules") });

export const ruleQuery = (name: string) =>
  queryOptions({ queryKey: ["live", "rules", name], queryFn: () => api.get<Rule>(`/rules/${encodeURIComponent(name)}`) });

export const ruleRunsQuery = (rule: string) =>
  queryOptions({ queryKey: ["live", "rules", rule, "runs"], queryFn: () => api.get<RunPage>(`/runs${query({ rule, limit: 20 })}`) });

export const explainQuery = (rule: string, file: string) =>
  queryOptions({
    queryKey: ["explain", rule, file],
    queryFn: () => api.get<Explained>(`/explain${query({ file, rule })}`),
    enabled: file.includes(":"),
    refetchInterval: false,
    retry: false,
  });
