import { queryOptions } from "@tanstack/react-query";

import { api, told } from "../../shared/api/client";

export const calendarsQuery = queryOptions({ queryKey: ["live", "calendars"], queryFn: () => told(api.GET("/api/v1/calendars")) });
export const databasesQuery = queryOptions({ queryKey: ["live", "databases"], queryFn: () => told(api.GET("/api/v1/databases")) });
export const keysQuery = queryOptions({ queryKey: ["live", "keys"], queryFn: () => told(api.GET("/api/v1/keys")) });
export const secretsQuery = queryOptions({ queryKey: ["live", "secrets"], queryFn: () => told(api.GET("/api/v1/secrets")) });

/** How much of what came stays on record. */
export const arrivalsKeptQuery = queryOptions({ queryKey: ["live", "arrivals", "kept"], queryFn: () => told(api.GET("/api/v1/arrivals/kept")) });
