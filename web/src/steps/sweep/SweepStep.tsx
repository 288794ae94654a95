/** How it scales: each lane over the values of a knob, or of two, and who leads where. */
import { Select } from "antd";
import { lazy, Suspense, useDeferredValue, useMemo } from "react";
import { Link } from "react-router";
import type { Comparison } from "../../api/client";
import { useSweep } from "../../api/queries";
import { Glyph } from "../../lanes/mark";
import { useWidth } from "../../ui/useWidth";
import { useOff, useView } from "../../ui/view";
import type { StepProps } from "../props";
import {
  type Along,
  isNumeric,
  lanesAt,
  type Measure,
  MEASURES,
  type Panel,
  panels,
  panelWords,
  type SweepPoint,
  valuesOf,
  valueWords,
  varied,
} from "./data";
import { type Axes, Lines, spanOf } from "./Lines";
import { Growths, Rule, Spent } from "./Words";
import { Values } from "./Values";

const GridMap = lazy(() => import("./GridMap").then((m) => ({ default: m.GridMap })));
const TwoLanes = lazy(() => import("./GridMap").then((m) => ({ default: m.TwoLanes })));

const HEIGHT = 400;
const SMALL = { width: 420, height: 240 };
const MOST_PANELS = 12;

export function SweepStep({ comparison, trial, findings }: StepProps) {
  const address = `/comparisons/${comparison.id}/trial`;
  if (!trial) {
    return (
      <p className="quiet">
        No trial yet. Go to <Link to={address}>Trial</Link> and choose several values of a knob:
        here stands how the lanes do over them.
      </p>
    );
  }
  if (trial.points.length < 2) {
    return (
      <p className="quiet" data-testid="one-point">
        Trial {trial.id} ran at one point. Choose several values of a knob on the step{" "}
        <Link to={address}>Trial</Link>, such as a small and a large size, and see here who leads
        where.
      </p>
    );
  }
  return <Sweep comparison={comparison} trial={trial.id} findings={findings} />;
}

type Props = { comparison: Comparison; trial: number; findings: StepProps["findings"] };

function Sweep({ comparison, trial, findings }: Props) {
  const { data } = useSweep(trial, findings);
  const [ref, width] = useWidth<HTMLDivElement>(900);
  return (
    <div className="sweep" ref={ref}>
      {data ? (
        <Swept {...{ comparison, trial, width }} points={data.points} found={data.found} />
      ) : (
        <p className="quiet">Reading the findings of every point…</p>
      )}
    </div>
  );
}

/** A choice within the sentence above a drawing. */
function Choice<T extends string>(props: {
  label: string;
  value: NoInfer<T>;
  options: { value: T; label: string }[];
  onChange: (value: NoInfer<T>) => void;
}) {
  return (
    <Select
      variant="underlined"
      size="small"
      popupMatchSelectWidth={false}
      aria-label={props.label}
      value={props.value}
      options={props.options}
      onChange={props.onChange}
    />
  );
}

type SweptProps = {
  comparison: Comparison;
  trial: number;
  points: SweepPoint[];
  found: Along[];
  width: number;
};

function Swept({ comparison, trial, points, found, width }: SweptProps) {
  const [off] = useOff(comparison.id);
  const view = useView();
  const knobs = useMemo(() => varied(points), [points]);
  const first = knobs.find((name) => isNumeric(points, name)) ?? knobs[0] ?? "";
  const measure: Measure =
    view.measure && view.measure in MEASURES ? (view.measure as Measure) : "elapsed";
  const knob = view.along && knobs.includes(view.along) ? view.along : first;
  const second =
    view.across && view.across !== knob && knobs.includes(view.across) ? view.across : null;
  const rest = knobs.filter((name) => name !== knob && name !== second);
  const every = useMemo(
    () => panels(points, second ? [knob, second] : [knob], found),
    [found, knob, points, second],
  );
  const alone = every.find((panel) => JSON.stringify(panel.at) === view.at);
  const shown = alone ? [alone] : every.slice(0, MOST_PANELS);
  const lanes = useMemo(() => lanesAt(comparison, points, off), [comparison, off, points]);
  if (!first) return <p className="quiet">The points of this trial have all the same values.</p>;
  return (
    <>
      <p className="sentence">
        {second ? "Who leads by " : "How "}
        <Choice
          label="Measure"
          value={measure}
          options={Object.entries(MEASURES).map(([value, { word }]) => ({
            value: value as Measure,
            label: word,
          }))}
          onChange={(value) => view.set({ measure: value === "elapsed" ? null : value })}
        />{" "}
        {second ? "over " : "goes with "}
        <Choice
          label="Knob along the axis"
          value={knob}
          options={knobs.map((name) => ({ value: name, label: name }))}
          onChange={(value) => view.set({ along: value, at: null })}
        />
        {knobs.length > 1 && (
          <>
            {" "}
            <Choice
              label="Knob across"
              value={second ?? ""}
              options={[
                { value: "", label: "alone" },
                ...knobs
                  .filter((n) => n !== knob)
                  .map((n) => ({ value: n, label: `by ${n}, as a map` })),
              ]}
              onChange={(value) => view.set({ across: value || null, at: null })}
            />
          </>
        )}
        {rest.length > 0 && (
          <>
            ,{" "}
            <Choice
              label="The other knobs"
              value={alone ? (view.at ?? "") : ""}
              options={[
                { value: "", label: `at each ${rest.join(" and ")}` },
                ...every.map((panel) => ({
                  value: JSON.stringify(panel.at),
                  label: `at ${panelWords(panel.at)}`,
                })),
              ]}
              onChange={(value) => view.set({ at: value || null })}
            />
          </>
        )}
        .
      </p>
      {second ? (
        <Suspense fallback={null}>
          <Maps
            found={found}
            {...{ comparison, trial, lanes, measure, width }}
            across={[knob, second]}
            shown={shown}
          />
        </Suspense>
      ) : (
        <OneKnob {...{ comparison, trial, lanes, measure, knob, width }} shown={shown} />
      )}
      {every.length > shown.length && !alone && (
        <p className="small quiet">
          {every.length - shown.length} more choices of {rest.join(" and ")} can be chosen above.
        </p>
      )}
    </>
  );
}

type ShownProps = {
  comparison: Comparison;
  trial: number;
  lanes: Comparison["lanes"];
  measure: Measure;
  shown: ReturnType<typeof panels>;
  width: number;
};

/** Along one knob: one large drawing, or small ones for each choice of the others. */
function OneKnob({
  comparison,
  trial,
  lanes,
  measure,
  knob,
  shown,
  width,
}: ShownProps & { knob: string }) {
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

/** Over two knobs: a map, or one for each choice of the others. */
function Maps({
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
          {panel.at.length > 0 && (
            <h3 className="panel-title">
              {panel.at.map(([name, value]) => `${name} ${valueWords(value)}`).join(", ")}
            </h3>
          )}
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
