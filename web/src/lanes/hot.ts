/** Hot lines of a lane as marks beside its code. */
import type { Schemas } from "../api/client";
import type { LineMark } from "../ui/CodeEditor";
import { bytes, seconds } from "../ui/units";

const LEAST = 0.01;
const GREW = 1 << 20;

export function lineMarks(found: Schemas["HotFindings"] | null | undefined): LineMark[] {
  if (!found || found.trouble) return [];
  return found.lines
    .filter((line) => line.share >= LEAST || (line.cpu_s ?? 0) > 0 || line.grown_bytes >= GREW)
    .map((line) => ({
      first: line.first,
      line: line.line,
      share: line.share,
      words: [
        line.first < line.line ? `lines ${line.first} to ${line.line} together` : "",
        `${(100 * line.share).toFixed(1)} % of the time, ${seconds(line.elapsed_s)}`,
        line.cpu_s ? `CPU ${seconds(line.cpu_s)}` : "",
        line.whole_s > 1.05 * line.elapsed_s
          ? `${seconds(line.whole_s)} with the lane’s own functions that it calls`
          : "",
        line.grown_bytes >= GREW ? `memory rises by ${bytes(line.grown_bytes)}` : "",
      ]
        .filter(Boolean)
        .join("; "),
      grew: line.grown_bytes >= GREW ? bytes(line.grown_bytes) : "",
    }));
}
