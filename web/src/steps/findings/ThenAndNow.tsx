/** Two trials, measure by measure: what each lane took then and takes now, and what differs. */
import { useQuery } from "@tanstack/react-query";
import {
  api,
  type Comparison,
  type Findings,
  type Ratio,
  taken,
  type Trial,
} from "../../api/client";
import { useOverlay } from "../../api/queries";
import { Glyph } from "../../lanes/mark";
import { aboutRatio, isApart, toldRatio } from "../../lanes/ratio";
import { Copy } from "../../ui/Copy";
import { inUnit } from "../../ui/measureWords";
import { Opening } from "../../ui/Opening";
import { Trouble } from "../../ui/Trouble";

type Props = { comparison: Comparison; trial: Trial; findings: Findings; under: number };

export function ThenAndNow({ comparison, trial, findings, under }: Props) {
  const { data, error } = useOverlay(trial.id, under, JSON.stringify(findings.point));
  if (error) return <Trouble error={error} />;
  if (!data) return <Opening what="both trials" />;
  const [then, now] = under < trial.id ? [under, trial.id] : [trial.id, under];
  const changed = data.measures.map((measure) => ({
    ...measure,
    lanes: measure.lanes.filter((lane) => measure.key === "elapsed" || isApart(lane.ratio)),
  }));
  const anchors = comparison.lanes.filter((lane) => data.anchors.includes(lane.id));
  return (
    <section className="then-and-now" data-testid="then-and-now">
      <Opinion there={then} here={now} />
      <table className="plain">
        <thead>
          <tr>
            <th>measure</th>
            <th>lane</th>
            <th className="number">trial {then}</th>
            <th className="number">trial {now}</th>
            <th>change, without the machine’s part</th>
            <th>as it was measured</th>
          </tr>
        </thead>
        <tbody>
          {changed.flatMap((measure) =>
            measure.lanes.map((lane, i) => (
              <tr key={`${measure.key} ${lane.lane}`}>
                <td className="quiet">{i === 0 && measure.label}</td>
                <td className="nowrap">
                  <Glyph place={comparison.marks[lane.lane] ?? 0} size={13} /> {lane.name}
                </td>
                <td className="number">{inUnit(measure.unit, lane.before)}</td>
                <td className="number">{inUnit(measure.unit, lane.after)}</td>
                <Change ratio={lane.ratio} />
                <Change ratio={lane.plain} quiet />
              </tr>
            )),
          )}
        </tbody>
      </table>
      <p className="small quiet">
        {anchors.length
          ? `The machine’s part is told by lanes that are the same in both trials: ${anchors
              .map((lane) => lane.name)
              .join(", ")}. A lane is held against the others of them. Of further measures only
              lanes that changed are listed.`
          : "No lane is the same in both trials with all it runs on: both columns are the same."}
      </p>
      <h3>What is not the same</h3>
      {data.differences.length ? (
        <ul>
          {data.differences.map((one) => (
            <li key={`${one.about} ${one.name}`}>
              {one.words} <span className="small faint">{one.about}</span>
            </li>
          ))}
        </ul>
      ) : (
        <p className="quiet">Nothing that Ivrell knows of.</p>
      )}
    </section>
  );
}

/** What held of the first when the second was run, or why that cannot be said. */
function Opinion({ there, here }: { there: number; here: number }) {
  const { data, error } = useQuery({
    queryKey: ["second-opinion", there, here],
    retry: false,
    queryFn: () =>
      taken(
        api.GET("/api/trials/{id}/second-opinion/", {
          params: { path: { id: here }, query: { of: there } },
        }),
      ),
  });
  if (error) return <p className="small faint">No second opinion: {error.message}</p>;
  if (!data) return null;
  const words = data.words.join(" ");
  return (
    <p className="overlay-words" data-testid="second-opinion">
      <strong className={data.holds ? "good" : "caution"}>
        {data.holds ? "It holds." : "Not all of it holds."}
      </strong>{" "}
      {words} <Copy what="second opinion" text={words} />
    </p>
  );
}

function Change({ ratio, quiet = false }: { ratio: Ratio; quiet?: boolean }) {
  const told = toldRatio(ratio);
  return (
    <td className={quiet ? "quiet" : ""} title={aboutRatio(ratio)}>
      {told.factor && !quiet ? <strong>{told.factor}</strong> : told.factor} {told.verdict}
      {told.span && <span className="small faint"> {told.span}</span>}
    </td>
  );
}
