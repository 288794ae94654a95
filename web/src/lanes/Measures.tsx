/** Every measure side by side: a row a measure, a column a lane. */
import { useState } from "react";
import type { Comparison, Findings, LaneFindings, MeasureRow } from "../api/client";
import { bytes, figures, plural, seconds } from "../ui/units";
import { Glyph } from "./mark";

/** A value of a measure as people read it. */
function words(row: MeasureRow, value: number): string {
  switch (row.unit) {
    case "seconds":
      return seconds(value);
    case "bytes":
      return bytes(value);
    case "share":
      return `${figures(100 * value)} %`;
    default:
      return Number.isInteger(value) ? value.toLocaleString("en") : figures(value);
  }
}

/** The lanes whose value is the best of a row, where some value is better than another. */
function best(row: MeasureRow, lanes: LaneFindings[]): Set<string> {
  const known = lanes.flatMap((lane) => row.lanes[lane.id]?.median ?? []);
  const [low, high] = [Math.min(...known), Math.max(...known)];
  if (row.better === "neither" || known.length < 2 || low === high) return new Set();
  const wanted = row.better === "lower" ? low : high;
  return new Set(lanes.filter((l) => row.lanes[l.id]?.median === wanted).map((l) => l.id));
}

type Props = { comparison: Comparison; findings: Findings; lanes: LaneFindings[] };

export function Measures({ comparison, findings, lanes }: Props) {
  const [shown, setShown] = useState(false);
  const rows = findings.measures;
  if (!rows.length) return null;
  return (
    <section className="measures">
      <button className="text" aria-expanded={shown} onClick={() => setShown(!shown)}>
        {shown ? "Hide all measures" : `All measures: ${plural(rows.length, "row")}`}
      </button>
      {shown && (
        <div className="measures-scroll" tabIndex={0} role="region" aria-label="All measures">
          <table>
            <thead>
              <tr>
                <th scope="col">median of counted runs</th>
                {lanes.map((lane) => (
                  <th scope="col" key={lane.id}>
                    <Glyph place={comparison.marks[lane.id] ?? 0} size={12} /> {lane.name}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {rows.map((row) => {
                const leading = best(row, lanes);
                return (
                  <tr key={row.key}>
                    <th scope="row" title={row.how}>
                      {row.label}
                    </th>
                    {lanes.map((lane) => {
                      const value = row.lanes[lane.id];
                      return (
                        <td
                          key={lane.id}
                          className={leading.has(lane.id) ? "best" : undefined}
                          title={
                            value &&
                            `${words(row, value.smallest)} to ${words(row, value.largest)}, ${plural(value.count, "run")}`
                          }
                        >
                          {value ? words(row, value.median) : <span className="faint">–</span>}
                        </td>
                      );
                    })}
                  </tr>
                );
              })}
            </tbody>
          </table>
        </div>
      )}
    </section>
  );
}
