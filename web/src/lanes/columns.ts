/** The board's columns: which there are, which are shown, in what order and how wide. */
import type { BoardColumn, Findings, MeasureRow, Schemas } from "../api/client";

export type Column = Schemas["Heading"] & {
  width: number;
  /** It takes what room is left. */
  grows: boolean;
  log: boolean;
  /** Whether the axis can be chosen. */
  scaled: boolean;
  row?: MeasureRow | undefined;
};

const WIDTHS: Record<string, number> = {
  elapsed: 220,
  ratio: 152,
  stages: 126,
  answer: 92,
  cpu_total: 112,
  peak_memory: 94,
  code_lines: 52,
};
const NARROWEST = 48;
const WIDEST = 1200;

/** Every column that there is: the board's own parts and all measures. */
export function allColumns(findings: Findings): Column[] {
  const rows = new Map(findings.measures.map((row) => [row.key, row]));
  return findings.board.headings.map((heading) => ({
    ...heading,
    width: WIDTHS[heading.key] ?? 108,
    grows: heading.drawing === "runs",
    log: heading.drawing === "runs" || heading.drawing === "interval",
    scaled: heading.measure,
    row: rows.get(heading.key),
  }));
}

const within = (width: number) => Math.min(WIDEST, Math.max(NARROWEST, Math.round(width)));

/** Columns as they stand in the address: keys with commas between, `~` before width and axis. */
export function asAddress(columns: BoardColumn[]): string {
  return columns
    .map(({ key, width, log }) =>
      [encodeURIComponent(key), width ?? "", log == null ? "" : log ? "log" : "linear"]
        .join("~")
        .replace(/~+$/, ""),
    )
    .join(",");
}

export function fromAddress(text: string): BoardColumn[] {
  return text
    .split(",")
    .filter(Boolean)
    .map((part) => {
      const [key = "", width = "", axis = ""] = part.split("~");
      let name = key;
      try {
        name = decodeURIComponent(key);
      } catch {
        // A link that was cut short names a column that there is not, and that is left out.
      }
      return {
        key: name,
        width: Number(width) > 0 ? within(Number(width)) : null,
        log: axis === "log" ? true : axis === "linear" ? false : null,
      };
    });
}

/** What is shown: the address first, then what is kept with the comparison, then the usual. */
export function chosenColumns(
  findings: Findings,
  address: string | null,
  kept: BoardColumn[],
): BoardColumn[] {
  if (address) {
    const named = fromAddress(address);
    if (named.length) return named;
  }
  if (kept.length) return kept;
  const usual = findings.board.headings.filter((heading) => heading.usual);
  return usual.map(({ key }) => ({ key, width: null, log: null }));
}

/** The chosen columns that the findings have, each with its width and axis. */
export function shownColumns(findings: Findings, chosen: BoardColumn[]): Column[] {
  const known = new Map(allColumns(findings).map((column) => [column.key, column]));
  return chosen.flatMap((choice) => {
    const column = known.get(choice.key);
    if (!column) return [];
    return [
      {
        ...column,
        width: choice.width ?? column.width,
        grows: column.grows && choice.width == null,
        log: choice.log ?? column.log,
      },
    ];
  });
}

export { within as widthWithin };
