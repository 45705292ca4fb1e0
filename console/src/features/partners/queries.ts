import { queryOptions } from "@tanstack/react-query";

import { api, told } from "../../shared/api/client";

/** Every partner with what belongs to it. */
export const partnersQuery = queryOptions({ queryKey: ["live", "partners"], queryFn: () => told(api.GET("/api/v1/partners")) });
