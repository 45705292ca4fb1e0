import { queryOptions } from "@tanstack/react-query";

import { type Partner, api } from "../../shared/api/client";

/** Every partner with what belongs to it. */
export const partnersQuery = queryOptions({ queryKey: ["live", "partners"], queryFn: () => api.get<Partner[]>("/partners") });
