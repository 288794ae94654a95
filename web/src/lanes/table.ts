/** The lanes board as plain text, for the clipboard and for CSV. */
import type { Findings } from "../api/client";

const HEADINGS = [
  "lane", "engine", "input", "state", "runs", "elapsed_median_s", "elapsed_low_s",
  "elapsed_high_s", "times_faster", "times_faster_low", "times_faster_high", "verdict",
  "cpu_user_s", "cpu_system_s", "cores_busy", "peak_above_start_bytes", "code_lines", "agreement",
]; // prettier-ignore

export function asDelimited(findings: Findings, mark: string): string {
  const quoted = (value: unknown) => {
    const text = value == null ? "" : String(value);
    return mark === "," && /[",\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
  };
  const rows = findings.lanes.map((lane) => [
    lane.name, lane.engine, lane.input, lane.state, lane.elapsed?.count, lane.elapsed?.median,
    lane.elapsed?.low, lane.elapsed?.high, lane.ratio?.value, lane.ratio?.low, lane.ratio?.high,
    lane.ratio?.verdict, lane.cpu_user?.median, lane.cpu_system?.median, lane.cores_busy,
    lane.peak_memory?.median, lane.code_lines, lane.agreement?.verdict,
  ]); // prettier-ignore
  return [HEADINGS, ...rows].map((row) => row.map(quoted).join(mark)).join("\n") + "\n";
}
