import { queryOptions } from "@tanstack/react-query";

import { api, told } from "../../shared/api/client";

export const rulesQuery = queryOptions({ queryKey: ["live", "rules"], queryFn: () => told(api.GET("/api/v1/rules")) });

export const ruleQuery = (name: string) =>
  queryOptions({ queryKey: ["live", "rules", name], queryFn: () => told(api.GET("/api/v1/rules/{name}", { params: { path: { name } } })) });

export const ruleRunsQuery = (rule: string) =>
  queryOptions({ queryKey: ["live", "rules", rule, "runs"], queryFn: () => told(api.GET("/api/v1/runs", { params: { query: { rule, limit: 20 } } })) });
