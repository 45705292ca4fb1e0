import createClient from "openapi-fetch";

import type { components, paths } from "./schema";

export type Schemas = components["schemas"];
export type Status = Schemas["Status"];
export type Moving = Schemas["Moving"];
export type Hold = Schemas["Hold"];
export type Rule = Schemas["Rule"];
export type RuleSummary = Schemas["RuleSummary"];
export type Run = Schemas["Run"];
export type Item = Schemas["Item"];
export type Attempt = Schemas["Attempt"];
export type Place = Schemas["Place"];
export type Partner = Schemas["Partner"];
export type Key = Schemas["Key"];
export type Warning = Schemas["Warning"];
export type ByHand = Schemas["ByHand"];
export type NewPlace = Schemas["NewPlace"];
export type TestedPlace = Schemas["TestedPlace"];
export type Verdict = Schemas["Verdict"];
export type Traced = Schemas["Traced"];
export type BookDiff = Schemas["BookDiff"];
type Problem = Schemas["Problem"];

/** What the service said when it refused. */
export class ApiError extends Error {
  readonly problem: Problem;

  constructor(problem: Problem) {
    super(problem.detail);
    this.problem = problem;
  }
}

const { GET, POST, PUT, DELETE, use } = createClient<paths>({ baseUrl: "" });

use({
  onError: () => new ApiError({ title: "unreachable", status: 0, code: "unreachable", detail: "The service does not answer. Is it running?" }),
});

/** Calls of the API, each typed by its description. */
export const api = { GET, POST, PUT, DELETE };

interface Answer<T> {
  data?: T | undefined;
  error?: unknown;
  response: Response;
}

function isProblem(error: unknown): error is Problem {
  return typeof error === "object" && error !== null && "detail" in error;
}

/** What the service answered; its problem is thrown. */
export async function told<T>(call: Promise<Answer<T>>): Promise<T> {
  const { data, error, response } = await call;
  if (response.ok) return data as T;
  const { status } = response;
  throw new ApiError(isProblem(error) ? error : { title: "error", status, code: "error", detail: `The service answered ${status}.` });
}
