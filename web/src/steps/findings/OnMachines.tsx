/** The same trial on several machines: what held on all of them, lane by lane. */
import { Link } from "react-router";
import type { Comparison, Trial } from "../../api/client";
import { useAcross } from "../../api/queries";
import { Glyph } from "../../lanes/mark";
import { aboutRatio, toldRatio } from "../../lanes/ratio";
import { Opening } from "../../ui/Opening";
import { seconds } from "../../ui/units";

export function OnMachines(props: { comparison: Comparison; trial: Trial; point: string }) {
  const { comparison, trial, point } = props;
  const { data, error } = useAcross(trial.id, point, true);
  if (error) return <p className="quiet">{error.message}</p>;
  if (!data) return <Opening what="the machines" />;
  return (
    <section className="on-machines" data-testid="on-machines">
      <p className="conclusion">{data.words.join(" ")}</p>
      <table className="plain">
        <thead>
          <tr>
            <th>lane</th>
            {data.machines.map((machine) => (
              <th key={machine.trial} title={machine.words}>
                <Link to={`/comparisons/${comparison.id}/findings?trial=${machine.trial}`}>
                  {machine.name}
                </Link>
                <div className="small faint">{machine.words}</div>
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {data.lanes.map((lane) => (
            <tr key={lane.lane}>
              <td className="nowrap">
                <Glyph place={comparison.marks[lane.lane] ?? 0} size={13} /> {lane.name}
              </td>
              {data.machines.map((machine, i) => {
                const ratio = lane.ratios[i];
                const told = ratio && toldRatio(ratio);
                return (
                  <td key={machine.trial} title={ratio ? aboutRatio(ratio) : undefined}>
                    {lane.medians[i] == null ? "–" : seconds(lane.medians[i])}{" "}
                    {told ? (
                      <>
                        {told.factor && <strong>{told.factor}</strong>} {told.verdict}
                        {told.span && <span className="small faint"> {told.span}</span>}
                      </>
                    ) : (
                      lane.lane === data.baseline && <span className="faint">baseline</span>
                    )}
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
