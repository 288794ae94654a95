/** The lanes board for the clipboard: every measure as plain text, or what it shows as Markdown. */
import type { Findings } from "../api/client";
import { asMarkdown } from "../ui/download";
import { shortRatio, toldRatio } from "./ratio";

export function asText(findings: Findings): string {
  const measures = findings.measures;
  const head = ["lane", "engine", "input", "state", "against the baseline", "interval", "answer"];
  const rows = findings.lanes.map((lane) => [
    lane.name, lane.engine, lane.input, lane.state, lane.ratio && shortRatio(lane.ratio),
    lane.ratio && toldRatio(lane.ratio).span,
    lane.agreement?.verdict, ...measures.map((row) => row.lanes[lane.id]?.median),
  ]); // prettier-ignore
  const labels = measures.map((row) => `${row.label} (${row.unit})`);
  const line = (cells: unknown[]) => cells.map((cell) => cell ?? "").join("\t");
  return [line([...head, ...labels]), ...rows.map(line)].join("\n") + "\n";
}

/** The columns that the board usually shows, in its words, as a table of Markdown. */
export function boardMarkdown(findings: Findings): string {
  const { headings, rows } = findings.board;
  const usual = headings.filter((head) => head.usual);
  const name = (id: string) => findings.lanes.find((lane) => lane.id === id)?.name ?? id;
  return asMarkdown(
    ["lane", ...usual.map((head) => head.label)],
    rows.map((row) => [
      name(row.lane),
      ...usual.map((head) => {
        const cell = row.cells[head.key];
        if (head.drawing === "runs" && row.trouble) return row.trouble;
        return cell ? [cell.text, cell.more].filter(Boolean).join(" ") : "–";
      }),
    ]),
  );
}
