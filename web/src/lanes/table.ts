/** The lanes board as plain text for the clipboard: every measure, a line a lane. */
import type { Findings } from "../api/client";
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
