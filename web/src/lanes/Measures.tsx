/** Every measure side by side: a row a measure, a column a lane. */
import { useState } from "react";
import type { Comparison, Findings, LaneFindings, MeasureRow } from "../api/client";
import { inUnit } from "../ui/measureWords";
import { plural } from "../ui/units";
import { LaneHeads } from "./LaneHeads";

/** The lane whose value alone is the best of a row, if there is one, among those whose answer is
 * the right one. */
function best(row: MeasureRow, all: LaneFindings[]): string | undefined {
  const lanes = all.filter((lane) => lane.state === "done" && lane.agreement?.agrees !== false);
  const known = lanes.flatMap((lane) => row.lanes[lane.id]?.median ?? []);
  if (row.better === "neither" || known.length < 2) return undefined;
  const wanted = row.better === "lower" ? Math.min(...known) : Math.max(...known);
  const leading = lanes.filter((lane) => row.lanes[lane.id]?.median === wanted);
  return leading.length === 1 ? leading[0]?.id : undefined;
}

type Props = { comparison: Comparison; findings: Findings; lanes: LaneFindings[] };

export function Measures({ comparison, findings, lanes }: Props) {
  const [shown, setShown] = useState(false);
  const rows = findings.measures;
  const place = (lane: LaneFindings) => findings.ranking.indexOf(lane.id);
  const ordered = lanes
    .filter((lane) => rows.some((row) => row.lanes[lane.id]))
    .sort((a, b) => place(a) - place(b));
  if (!rows.length) return null;
  return (
    <section className="measures">
      <button className="text link" aria-expanded={shown} onClick={() => setShown(!shown)}>
        {shown ? "Hide all measures" : `All ${rows.length} measures`}
      </button>
      {shown && (
        <div className="measures-scroll" tabIndex={0} role="region" aria-label="All measures">
          <table>
            <thead>
              <tr>
                <th scope="col">median of counted runs</th>
                <LaneHeads comparison={comparison} lanes={ordered} />
              </tr>
            </thead>
            <tbody>
              {rows.map((row) => {
                const leading = best(row, ordered);
                return (
                  <tr key={row.key}>
                    <th scope="row" title={row.how}>
                      {row.label}
                    </th>
                    {ordered.map((lane) => {
                      const value = row.lanes[lane.id];
                      return (
                        <td
                          key={lane.id}
                          className={leading === lane.id ? "best" : undefined}
                          title={
                            value &&
                            `${inUnit(row.unit, value.smallest)} to ${inUnit(row.unit, value.largest)}, ${plural(value.count, "run")}`
                          }
                        >
                          {value ? (
                            inUnit(row.unit, value.median)
                          ) : (
                            <span className="faint">–</span>
                          )}
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
