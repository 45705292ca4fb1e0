import { queryOptions } from "@tanstack/react-query";

import { api, told } from "./client";

/** How things stand: the header asks it on every page. */
export const statusQuery = queryOptions({
  queryKey: ["live", "status"],
  queryFn: () => told(api.GET("/api/v1/status")),
  refetchInterval: (query) => (query.state.data?.moving.length ? 1000 : 10_000),
});

/** Every place: used wherever one is shown or asked for. */
export const placesQuery = queryOptions({ queryKey: ["live", "places"], queryFn: () => told(api.GET("/api/v1/places")) });
