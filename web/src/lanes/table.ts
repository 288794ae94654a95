/** The lanes board as plain text for the clipboard: every measure, a line a lane. */
import type { Findings } from "../api/client";

export function asText(findings: Findings): string {
  const measures = findings.measures;
  const head = ["lane", "engine", "input", "state", "times faster", "verdict", "answer"];
  const rows = findings.lanes.map((lane) => [
    lane.name, lane.engine, lane.input, lane.state, lane.ratio?.value, lane.ratio?.verdict,
    lane.agreement?.verdict, ...measures.map((row) => row.lanes[lane.id]?.median),
  ]); // prettier-ignore
  const labels = measures.map((row) => `${row.label} (${row.unit})`);
  const line = (cells: unknown[]) => cells.map((cell) => cell ?? "").join("\t");
  return [line([...head, ...labels]), ...rows.map(line)].join("\n") + "\n";
}
