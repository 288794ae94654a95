/** The same in figures: a row a value of the knob, the best of each in bold. */
import { memo } from "react";
import { Link } from "react-router";
import type { Comparison } from "../../api/client";
import { LaneHeads } from "../../lanes/LaneHeads";
import { seconds } from "../../ui/units";
import {
  findingsAt,
  type Lanes,
  type Measure,
  MEASURES,
  type Panel,
  panelWords,
  seenAt,
  valueWords,
} from "./data";

type Props = {
  comparison: Comparison;
  trial: number;
  panel: Panel;
  lanes: Lanes;
  knob: string;
  measure: Measure;
};

/** Drawn anew only when its own figures change. */
export const Values = memo(function Values({
  comparison,
  trial,
  panel,
  lanes,
  knob,
  measure,
}: Props) {
  const { show } = MEASURES[measure];
  const spent = (size: unknown) => panel.along?.spent.find((one) => one.size === size);
  return (
    <div className="scroll">
      <table className="plain sweep-values" data-testid="sweep-values">
        {panel.at.length > 0 && <caption>{panelWords(panel.at)}</caption>}
        <thead>
          <tr>
            <th scope="col">{knob}</th>
            <LaneHeads comparison={comparison} lanes={lanes} />
            {panel.along && <th scope="col">spent</th>}
          </tr>
        </thead>
        <tbody>
          {panel.points.map((point) => {
            const of = (id: string) => point.lanes.find((l) => l.id === id);
            const sure = lanes.flatMap((lane) => {
              const found = of(lane.id);
              const seen = found?.trusted ? seenAt(found, measure) : null;
              return seen ? [seen.median] : [];
            });
            const best = Math.min(...sure);
            const here = spent(point.point[knob]);
            return (
              <tr key={JSON.stringify(point.point)}>
                <th scope="row">
                  <Link to={findingsAt(comparison.id, trial, point.point)}>
                    {valueWords(point.point[knob])}
                  </Link>
                </th>
                {lanes.map((lane) => {
                  const found = of(lane.id);
                  const median = found ? seenAt(found, measure)?.median : undefined;
                  if (!found) return <td key={lane.id} />;
                  if (!found.trusted || median === undefined) {
                    return (
                      <td key={lane.id} className="bad small">
                        {found.trouble || (found.state === "done" ? "other answer" : found.state)}
                      </td>
                    );
                  }
                  return (
                    <td key={lane.id}>
                      {median === best ? <strong>{show(median)}</strong> : show(median)}
                    </td>
                  );
                })}
                {panel.along && (
                  <td className="small quiet">
                    {here &&
                      `${here.runs} runs, ${seconds(here.seconds)}${here.searched ? ", searched" : ""}`}
                  </td>
                )}
              </tr>
            );
          })}
        </tbody>
      </table>
    </div>
  );
});
