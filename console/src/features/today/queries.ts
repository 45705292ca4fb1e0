import { queryOptions } from "@tanstack/react-query";

import { type HoldPage, api } from "../../shared/api/client";

export const holdsQuery = queryOptions({ queryKey: ["live", "holds"], queryFn: () => api.get<HoldPage>("/holds?limit=50") });
