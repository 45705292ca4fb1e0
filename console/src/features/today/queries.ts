import { queryOptions } from "@tanstack/react-query";

import { api, told } from "../../shared/api/client";

export const holdsQuery = queryOptions({ queryKey: ["live", "holds"], queryFn: () => told(api.GET("/api/v1/holds", { params: { query: { limit: 50 } } })) });
