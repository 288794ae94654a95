/** The server's API, typed from its published schema. */
import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

export type Schemas = components["schemas"];
export type Comparison = Schemas["Comparison"];
export type ComparisonLine = Schemas["ComparisonLine"];
export type Lane = Schemas["Lane"];
export type Trial = Schemas["Trial"];
export type TrialLine = Schemas["TrialLine"];
export type Findings = Schemas["TrialFindings"];
export type LaneFindings = Schemas["LaneFindings"];
export type MeasureRow = Schemas["MeasureRow"];
export type Dot = Schemas["Dot"];
export type Run = Schemas["RunShape"];
export type LookTable = Schemas["LookTable"];
export type LookColumn = Schemas["LookColumn"];
export type Edit = Partial<Schemas["Edit"]>;

/** A change of a recipe with all its fields, as the server takes it. */
export function wholeEdit(edit: Edit): Schemas["Edit"] {
  return { table: null, column: null, fields: {}, add: false, remove: false, ...edit };
}
export type Agreement = Schemas["AgreementShape"];

/** An error as the server tells it. */
export class Problem extends Error {
  constructor(
    readonly what: string,
    readonly where = "",
    readonly cure = "",
    readonly status = 0,
  ) {
    super([where && `${where}: `, what, cure && ` ${cure}`].filter(Boolean).join(""));
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
    said?.cure,
    answer.response.status,
  );
}
