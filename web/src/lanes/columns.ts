/** The board's columns: which there are, which are shown, in what order and how wide. */
import type { BoardColumn, Findings, MeasureRow } from "../api/client";

export type Column = {
  key: string;
  label: string;
  /** A second, fainter word of the heading. */
  note?: string;
  /** How it is got; what stands in the chooser. */
  how: string;
  width: number;
  /** It takes what room is left. */
  grows?: boolean;
  log: boolean;
  /** Whether the axis can be chosen. */
  scaled: boolean;
  row?: MeasureRow;
};

const PARTS: Column[] = [
  {
    key: "ratio",
    label: "against the baseline",
    how: "Elapsed time against the baseline's, with its interval.",
    width: 152,
    log: true,
    scaled: false,
  },
  {
    key: "stages",
    label: "stages",
    how: "Where the time goes, by the stages that the code names.",
    width: 126,
    log: false,
    scaled: false,
  },
  {
    key: "answer",
    label: "answer",
    how: "Whether it agrees with the reference, and how many rows it has.",
    width: 92,
    log: false,
    scaled: false,
  },
];

const WIDTHS: Record<string, number> = {
  elapsed: 220,
  cpu_total: 112,
  peak_memory: 94,
  code_lines: 52,
};
const SHORT: Record<string, string> = { elapsed: "elapsed", code_lines: "lines" };
const USUAL = ["elapsed", "ratio", "cpu_total", "peak_memory", "stages", "code_lines", "answer"];
const NARROWEST = 48;
const WIDEST = 1200;

/** Every column that there is: the board's own parts and all measures. */
export function allColumns(findings: Findings): Column[] {
  const measures = findings.measures.map((row): Column => ({
    key: row.key,
    label: SHORT[row.key] ?? row.label,
    ...(row.key === "elapsed" ? { note: "median, interval, every run", grows: true } : {}),
    how: row.how,
    width: WIDTHS[row.key] ?? 108,
    log: row.key === "elapsed",
    scaled: true,
    row,
  }));
  const elapsed = measures.find((column) => column.key === "elapsed");
  const drawn: Column = elapsed ?? {
    key: "elapsed",
    label: "elapsed",
    note: "median, interval, every run",
    how: "From the call of the approach to its answer, whole.",
    width: WIDTHS.elapsed ?? 220,
    grows: true,
    log: true,
    scaled: true,
  };
  return [drawn, ...PARTS, ...measures.filter((column) => column !== elapsed)];
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
export function chosenColumns(address: string | null, kept: BoardColumn[]): BoardColumn[] {
  if (address) {
    const named = fromAddress(address);
    if (named.length) return named;
  }
  if (kept.length) return kept;
  return USUAL.map((key) => ({ key, width: null, log: null }));
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
