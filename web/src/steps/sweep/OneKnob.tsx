/** Along one knob: its drawing with words and figures, or small ones for each choice of the others. */
import { useDeferredValue } from "react";
import type { Comparison } from "../../api/client";
import { useView } from "../../ui/view";
import { Choice } from "./Choice";
import { type Measure, MEASURES, type Panel, panelWords, type SweepPoint, underOf } from "./data";
import { type Axes, Lines, spanOf } from "./Lines";
import { Values } from "./Values";
import { Growths, Rule, Spent } from "./Words";

const HEIGHT = 400;
const SMALL = { width: 420, height: 240 };

/** What the drawings of a sweep are of. */
export type ShownProps = {
  comparison: Comparison;
  trial: number;
  lanes: Comparison["lanes"];
  measure: Measure;
  shown: Panel[];
  width: number;
};

export function OneKnob({
  comparison,
  trial,
  lanes,
  measure,
  knob,
  shown,
  under,
  width,
}: ShownProps & { knob: string; under: SweepPoint[] }) {
  const view = useView();
  // The drawing first, words and figures right behind it.
  const told = useDeferredValue(measure);
  const [ax, ay] = (view.axes ?? "").split(",");
  const values = shown.flatMap((panel) => panel.points.map((p) => p.point[knob]));
  const numbers = values.filter((v) => typeof v === "number" && v > 0) as number[];
  const wide =
    numbers.length === values.length && Math.max(...numbers) / Math.min(...numbers) >= 10;
  const axes: Axes = {
    x: ax === "linear" || ax === "log" ? ax : wide ? "log" : "linear",
    y: ay === "linear" ? "linear" : "log",
  };
  const setAxes = (next: Axes) => view.set({ axes: `${next.x},${next.y}` });
  const extrapolated = shown.some((p) =>
    p.along?.growths.some((g) => g.measure === measure && g.ahead.length),
  );
  const ahead = extrapolated && view.ahead !== "no";
  const [only] = shown;
  const choose = (lane: string | null) => view.set({ lane });
  const beyond = (panel: Panel) =>
    panel.along?.growths
      .filter((g) => ahead && g.measure === measure && lanes.some((lane) => lane.id === g.lane))
      .flatMap((g) => g.ahead.map((p) => p.value)) ?? [];
  // Panels side by side share their axis; a drawing alone has its own.
  const spans =
    shown.length > 1
      ? shown.flatMap((panel) => [...(spanOf(panel, lanes, knob, measure) ?? []), ...beyond(panel)])
      : [];
  const span: [number, number] | undefined = spans.length
    ? [Math.min(...spans), Math.max(...spans)]
    : undefined;
  const small = shown.length > 1;
  const across = small ? Math.max(1, Math.floor(width / SMALL.width)) : 1;
  const each = small ? Math.floor(width / across) - 12 : width;
  const kinds = (label: string, axis: "x" | "y") => (
    <Choice
      label={label}
      value={axes[axis]}
      options={[
        { value: "log" as const, label: "logarithmic" },
        { value: "linear" as const, label: "linear" },
      ]}
      onChange={(kind) => setAxes({ ...axes, [axis]: kind })}
    />
  );
  return (
    <>
      {!small && only?.along && <Rule {...{ comparison, measure }} along={only.along} />}
      <p className="small quiet sweep-axes">
        Axis of {knob} {kinds("Axis of the knob", "x")}, of {MEASURES[measure].word}{" "}
        {kinds("Axis of the measure", "y")}
        {extrapolated && (
          <>
            ,{" "}
            <label>
              <input
                type="checkbox"
                checked={ahead}
                onChange={(event) => view.set({ ahead: event.target.checked ? null : "no" })}
              />{" "}
              extrapolated to ten times the largest
            </label>
          </>
        )}
      </p>
      <div className={small ? "panels" : undefined}>
        {shown.map((panel) => (
          <section key={JSON.stringify(panel.at)} style={small ? { width: each } : undefined}>
            {small && (
              <h3 className="panel-title">
                <button
                  className="text link"
                  onClick={() => view.set({ at: JSON.stringify(panel.at) })}
                >
                  {panelWords(panel.at)}
                </button>
              </h3>
            )}
            <Lines
              {...{ comparison, trial, panel, lanes, knob, measure, axes, ahead, small }}
              span={span}
              under={underOf(panel, under, knob)}
              chosen={view.lane}
              onChoose={choose}
              width={each}
              height={small ? SMALL.height : HEIGHT}
            />
            {small && panel.along && (
              <p className="small">{panel.along.leads.find((l) => l.measure === measure)?.words}</p>
            )}
          </section>
        ))}
      </div>
      {!small && only?.along && (
        <>
          <Spent along={only.along} />
          <Growths
            {...{ comparison, lanes }}
            measure={told}
            along={only.along}
            chosen={view.lane}
            onChoose={choose}
          />
        </>
      )}
      {shown.map((panel) => (
        <Values
          key={JSON.stringify(panel.at)}
          {...{ comparison, trial, panel, lanes, knob }}
          measure={told}
        />
      ))}
    </>
  );
}
