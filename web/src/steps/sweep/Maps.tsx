/** Over two knobs: a map for each choice of the others, its key, and the rule of each row. */
import type { Comparison } from "../../api/client";
import { Glyph } from "../../lanes/mark";
import { useView } from "../../ui/view";
import { type Along, type Measure, type Panel, panelWords, valuesOf, valueWords } from "./data";
import { GridMap, TwoLanes } from "./GridMap";
import type { ShownProps } from "./OneKnob";

export default function Maps({
  comparison,
  trial,
  lanes,
  measure,
  across,
  shown,
  width,
  found,
}: ShownProps & { across: [string, string]; found: Along[] }) {
  const view = useView();
  const ids = lanes.map((lane) => lane.id);
  const two: [string, string] | null =
    view.base && view.lane && ids.includes(view.base) && ids.includes(view.lane)
      ? [view.base, view.lane]
      : null;
  return (
    <>
      <p className="small quiet">
        Colour and mark are the lane that leads; the stronger, the farther the next one is behind;
        hatched where that is not sure.{" "}
        <TwoLanes
          lanes={lanes}
          two={two}
          onChange={(chosen) => view.set({ base: chosen?.[0] ?? null, lane: chosen?.[1] ?? null })}
        />
      </p>
      <ul className="map-key">
        {lanes.map((lane) => (
          <KeyEntry key={lane.id} comparison={comparison} lane={lane} />
        ))}
      </ul>
      {shown.map((panel) => (
        <section key={JSON.stringify(panel.at)}>
          {panel.at.length > 0 && <h3 className="panel-title">{panelWords(panel.at)}</h3>}
          <GridMap {...{ comparison, trial, panel, lanes, across, measure, two, width }} />
          <Rows found={found} panel={panel} across={across} measure={measure} />
        </section>
      ))}
    </>
  );
}

/** Who leads along the first knob, for each value of the second. */
function Rows(props: { found: Along[]; panel: Panel; across: [string, string]; measure: Measure }) {
  const { found, panel, across, measure } = props;
  const [knob, second] = across;
  const rows = valuesOf(panel.points, second).flatMap((value) => {
    const at = Object.fromEntries([...panel.at, [second, value]]);
    const own = found.find(
      (one) =>
        one.knob === knob && Object.entries(at).every(([name, part]) => one.at[name] === part),
    );
    const words = own?.leads.find((lead) => lead.measure === measure)?.words;
    return words ? [{ value, words }] : [];
  });
  return (
    <ul className="growths" data-testid="map-rows">
      {rows.map(({ value, words }) => (
        <li key={String(value)}>
          <strong>
            {second} {valueWords(value)}
          </strong>{" "}
          <span className="quiet">{words}</span>
        </li>
      ))}
    </ul>
  );
}

function KeyEntry({
  comparison,
  lane,
}: {
  comparison: Comparison;
  lane: Comparison["lanes"][number];
}) {
  return (
    <li>
      <Glyph place={comparison.marks[lane.id] ?? 0} size={13} /> {lane.name}
    </li>
  );
}
