import type { components } from "./schema";

type Schemas = components["schemas"];
export type Status = Schemas["Status"];
export type Moving = Schemas["Moving"];
export type Hold = Schemas["Hold"];
export type HoldPage = Schemas["HoldPage"];
export type Rule = Schemas["Rule"];
export type RuleSummary = Schemas["RuleSummary"];
export type Branch = Schemas["Branch"];
export type Run = Schemas["Run"];
export type RunPage = Schemas["RunPage"];
export type Item = Schemas["Item"];
export type Attempt = Schemas["Attempt"];
export type Place = Schemas["Place"];
export type Partner = Schemas["Partner"];
export type Key = Schemas["Key"];
export type Warning = Schemas["Warning"];
export type ByHand = Schemas["ByHand"];
export type Begun = Schemas["Begun"];
export type PlaceDay = Schemas["PlaceDay"];
export type NewPlace = Schemas["NewPlace"];
export type TriedPlace = Schemas["TriedPlace"];
export type SignInOffer = Schemas["SignInOffer"];
export type SignInBegun = Schemas["SignInBegun"];
export type TestedPlace = Schemas["TestedPlace"];
export type Listing = Schemas["Listing"];
export type Explained = Schemas["Explained"];
export type Verdict = Schemas["Verdict"];
export type Traced = Schemas["Traced"];
export type Traces = Schemas["Traces"];
export type BookDiff = Schemas["BookDiff"];
export type Started = Schemas["Started"];
type Problem = Schemas["Problem"];

/** What the service said when it refused. */
export class ApiError extends Error {
  readonly problem: Problem;

  constructor(problem: Problem) {
    super(problem.detail);
    this.problem = problem;
  }
}

async function call<T>(method: string, path: string, body?: unknown): Promise<T> {
  const init: RequestInit = { method };
  if (body !== undefined) {
    init.body = JSON.stringify(body);
    init.headers = { "content-type": "application/json" };
  }
  let response: Response;
  try {
    response = await fetch(`/api/v1${path}`, init);
  } catch {
    throw new ApiError({ title: "unreachable", status: 0, code: "unreachable", detail: "The service does not answer. Is it running?" });
  }
  if (!response.ok) {
    const problem = (await response.json().catch(() => null)) as Problem | null;
    throw new ApiError(
      problem ?? { title: "error", status: response.status, code: "error", detail: `The service answered ${response.status}.` },
    );
  }
  const text = await response.text();
  return (text ? JSON.parse(text) : undefined) as T;
}

export const api = {
  get: <T>(path: string) => call<T>("GET", path),
  post: <T>(path: string, body: unknown = {}) => call<T>("POST", path, body),
  delete: (path: string) => call<undefined>("DELETE", path),
};

/** A query string of what is set. */
export function query(values: Record<string, string | number | undefined>): string {
  const set = Object.entries(values).filter(([, value]) => value !== undefined && value !== "");
  return set.length ? `?${new URLSearchParams(set.map(([key, value]) => [key, String(value)])).toString()}` : "";
}
