import { queryOptions } from "@tanstack/react-query";

import { type Schemas, api, told } from "../../shared/api/client";

export type Twin = Schemas["Twin"];
export type Comparison = Schemas["TwinComparison"];
export type Line = Schemas["TwinLine"];
export type Stop = Schemas["TwinStop"];
export type Choices = Schemas["TwinChoices"];
export type Kept = Schemas["TwinKept"];

/** Nothing was decided yet. */
export const NOTHING: Choices = { answers: {}, without: [], only_answered: false, allow: null };

export const twinsQuery = queryOptions({ queryKey: ["live", "twins"], queryFn: () => told(api.GET("/api/v1/twins")) });

export const twinQuery = (name: string) =>
  queryOptions({ queryKey: ["live", "twin", name], queryFn: () => told(api.GET("/api/v1/twins/{name}", { params: { path: { name } } })) });

/** Both sides are looked at when it is asked for, and not again by itself: on a server that takes its time. */
export const comparisonQuery = (name: string, most: number) =>
  queryOptions({
    queryKey: ["twin-comparison", name, most],
    queryFn: () => told(api.POST("/api/v1/twins/{name}/compare", { params: { path: { name }, query: { most } }, body: NOTHING })),
    staleTime: Number.POSITIVE_INFINITY,
    gcTime: 0,
    refetchInterval: false,
    refetchOnWindowFocus: false,
  });

export const keptQuery = (name: string) =>
  queryOptions({
    queryKey: ["live", "twin-kept", name],
    queryFn: () => told(api.GET("/api/v1/twins/{name}/kept", { params: { path: { name } } })),
    refetchInterval: false,
  });

export const textsQuery = (name: string, near: string, far: string) =>
  queryOptions({
    queryKey: ["twin-texts", name, near, far],
    queryFn: () => told(api.GET("/api/v1/twins/{name}/texts", { params: { path: { name }, query: { near, far } } })),
    refetchInterval: false,
  });
