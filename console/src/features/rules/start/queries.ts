import { queryOptions } from "@tanstack/react-query";

import { type Schemas, api, told } from "../../../shared/api/client";

export type Starter = Schemas["Starter"];

export const startersQuery = queryOptions({
  queryKey: ["starters"],
  queryFn: () => told(api.GET("/api/v1/starters")),
  staleTime: Number.POSITIVE_INFINITY,
});

/** What somebody wants, in the order of the page. */
export const WANTS: [Starter["want"], string][] = [
  ["protect", "Protect files"],
  ["deliver", "Bring files to others"],
  ["collect", "Get files, or keep a copy"],
  ["tidy", "Sort and move"],
  ["pack", "Pack and unpack"],
  ["tell", "Letters, mails, other systems"],
  ["data", "Tables and databases"],
];
