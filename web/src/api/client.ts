/** The server's API, typed from its published schema. */
import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

export type Schemas = components["schemas"];
export type Comparison = Schemas["ComparisonShape"];
export type ComparisonLine = Schemas["ComparisonLine"];
export type Lane = Schemas["Lane"];
export type Trial = Schemas["TrialShape"];
export type TrialLine = Schemas["TrialLine"];
export type Findings = Schemas["PointFindings"];
export type LaneFindings = Schemas["LaneFindings"];
export type MeasureRow = Schemas["MeasureRow"];
export type Measured = Schemas["Measured"];
export type Ratio = Schemas["Ratio"];
export type PairFindings = Schemas["PairFindings"];
export type Staircase = Schemas["Staircase"];
export type JudgedClaim = Schemas["JudgedClaim"];
export type Note = Schemas["Note"];
export type Claim = Schemas["Claim"];
export type BoardColumn = Schemas["BoardColumn"];
export type Dot = Schemas["Dot"];
export type Run = Schemas["RunShape"];
export type LookTable = Schemas["LookTable"];
export type LookColumn = Schemas["LookColumn"];
export type Edit = Schemas["EditRequest"];
export type Point = Schemas["RunLine"]["point"];
export type LiveEvent = Schemas["Events"]["events"][number];
export type Agreement = Schemas["Agreement"];

/** An error as the server tells it. */
export class Problem extends Error {
  constructor(
    readonly what: string,
    readonly where = "",
    readonly hint = "",
    readonly status = 0,
    readonly help = "",
  ) {
    super([where && `${where}: `, what, hint && ` ${hint}`].filter(Boolean).join(""));
  }
}

function csrfToken(): string {
  return /ivrell_csrf_\d*=([^;]+)/.exec(document.cookie)?.[1] ?? "";
}

export const api = createClient<paths>({ baseUrl: "/" });

api.use({
  onRequest({ request }) {
    if (request.method !== "GET") request.headers.set("X-CSRFToken", csrfToken());
    return request;
  },
});

type Answer<T> = { data?: T; error?: unknown; response: Response };

/** The data of an answer, or a Problem thrown. */
export async function taken<T>(asked: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>;
  try {
    answer = await asked;
  } catch {
    throw new Problem("The server does not answer.", "", "Is ./start still running?");
  }
  if (answer.response.ok) return answer.data as T;
  const said = answer.error as Partial<Problem> | undefined;
  throw new Problem(
    said?.what ?? `The server answered with status ${answer.response.status}.`,
    said?.where,
    said?.hint,
    answer.response.status,
    said?.help,
  );
}
