import { keepPreviousData, queryOptions } from "@tanstack/react-query";

import { type Schemas, api, told } from "../api/client";

export type Rehearsal = Schemas["Rehearsal"];
export type RehearsedFile = Schemas["RehearsedFile"];
export type RehearsedOnly = Schemas["RehearsedOnly"];
export type AskRehearsal = Schemas["AskRehearsal"];
export type Foreseen = Schemas["Foreseen"];

/** A rehearsal: what a rule would do. Nothing is touched, so that it can be asked for as often as one likes. */
export const rehearsalQuery = (asked: AskRehearsal, isReady = true) =>
  queryOptions({
    queryKey: ["rehearsal", asked],
    queryFn: () => told(api.POST("/api/v1/rehearsals", { body: asked })),
    enabled: isReady,
    placeholderData: keepPreviousData,
    refetchInterval: false,
    refetchOnWindowFocus: false,
    retry: false,
  });

/** What came to a folder, taken or not, newest first. */
export const cameQuery = (place: string, folder: string) =>
  queryOptions({
    queryKey: ["arrivals", place, folder],
    queryFn: () => told(api.GET("/api/v1/arrivals", { params: { query: { place, folder } } })),
    retry: false,
  });
