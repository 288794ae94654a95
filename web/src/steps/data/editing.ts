/** Changing a recipe a field at a time: what is shown is what the recipe's text says. */
import type { Edit, LookColumn, Problem, Schemas } from "../../api/client";

export type Kinds = Schemas["KindOfColumn"][];

/** What a card needs to change the recipe it is drawn from. */
export type Editing = {
  kinds: Kinds;
  /** Look at a change that is being typed; null gives it back. */
  tryOut: (edit: Edit | null) => void;
  /** Put a change into the recipe. */
  apply: (edit: Edit) => void;
  pending: Edit | null;
  problem: Problem | null;
  references: string[];
  /** Take a table out, so that it can be brought back; null where it is the only one. */
  takeOut: ((table: string) => void) | null;
};

const USUAL: Record<string, Record<string, unknown>> = {
  integer: { low: 1, high: 100 },
  number: { spread: "uniform", low: 0, high: 100, decimals: 2 },
  category: { count: 5 },
  text: { pattern: "[A-Z]{3}-[0-9]{2}" },
  packed: { slots: ["hold1", "hold2"] },
  date: { from: "2031-01-01", until: "2032-01-01" },
  timestamp: { from: "2031-01-01", until: "2032-01-01" },
  constant: { value: "none" },
};

const SPREADS: Record<string, Record<string, unknown>> = {
  uniform: { low: 0, high: 100 },
  normal: { mean: 50, sd: 10 },
  lognormal: { median: 50, sigma: 0.5 },
  exponential: { mean: 50 },
  drawn: { quantiles: [0, 10, 20, 50, 100] },
};

/** The fields that turn a column into another kind: its own go, the new kind's usual ones come. */
export function asKind(column: LookColumn, kind: string, references: string[], numbers: string[]) {
  const gone = Object.fromEntries(Object.keys(column.given).map((name) => [name, null]));
  const usual = { ...USUAL[kind] };
  if (kind === "reference") usual.to = references[0] ?? "";
  if (kind === "derived") usual.formula = `${numbers[0] ?? "column"} * 2`;
  return { ...gone, ...usual, kind };
}

/** The fields that give a number column another spread. */
export function asSpread(spread: string) {
  const ends = { low: null, high: null, mean: null, sd: null, median: null, sigma: null };
  const none = { ...ends, quantiles: null };
  return { ...none, ...SPREADS[spread], spread };
}

/** What a typed text means for a setting of some type; text that means nothing stays text. */
export function meant(type: string, text: string): unknown {
  const plain = text.trim();
  if (type === "list") return records(plain) ?? plain.split(",").map((part) => part.trim());
  if (type === "numbers") {
    const numbers = plain.split(/[, ]+/).map(Number);
    return numbers.every(Number.isFinite) ? numbers : text;
  }
  if (type === "text" || type === "moment") return text;
  if (plain === "true" || plain === "false") return plain === "true";
  const number = Number(plain.replace(/[ ,_]/g, ""));
  return plain !== "" && Number.isFinite(number) ? number : text;
}

/** A list of records, which is written as JSON; null for anything else. */
function records(text: string): unknown[] | null {
  if (!text.startsWith("[{")) return null;
  try {
    return JSON.parse(text) as unknown[];
  } catch {
    return null;
  }
}

export function written(value: unknown): string {
  if (Array.isArray(value) && typeof value[0] === "object") return JSON.stringify(value);
  if (Array.isArray(value)) return value.join(", ");
  return String(value ?? "").replace(/T00:00:00$/, "");
}

/** Whether what is wrong belongs to this place of the recipe. */
export function isAt(edit: Edit | null, table: string, column: number | null, field: string) {
  return (
    edit !== null &&
    edit.table === table &&
    (edit.column ?? null) === column &&
    Object.keys(edit.fields ?? {}).includes(field)
  );
}
