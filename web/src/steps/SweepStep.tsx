/** How it scales: each lane over the values of a knob, and who leads where. */
import { extent } from "d3-array";
import { scaleLinear, scaleLog } from "d3-scale";
import { line } from "d3-shape";
import { Button, Select } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import type { Comparison, Schemas } from "../api/client";
import { useSweep } from "../api/queries";
import { LaneHeads } from "../lanes/LaneHeads";
import { Glyph, glyphPath, laneColour } from "../lanes/mark";
import { bytes, count, seconds } from "../ui/units";
import { useWidth } from "../ui/useWidth";
import { download } from "../ui/download";
import { Figure } from "../ui/Figure";
import { useOff, useView } from "../ui/view";
import type { StepProps } from "./props";

const HEIGHT = 340;
const PAD = { left: 64, right: 44, top: 12, bottom: 42 };
const LEAST_GAP = 22;

const MEASURES = {
  elapsed: { word: "elapsed time", show: seconds },
  cpu_total: { word: "CPU time", show: seconds },
  peak_memory: { word: "peak memory", show: bytes },
} as const;
type Measure = keyof typeof MEASURES;

type Point = Schemas["SweepPoint"];
type Spot = { point: Point; x: number; value: number; low: number; high: number };

/** Knobs of which a trial ran several values. */
function varied(points: Point[]): string[] {
  const names = Object.keys(points[0]?.point ?? {});
  return names.filter((name) => new Set(points.map((p) => p.point[name])).size > 1);
}

export function SweepStep({ comparison, trial, findings }: StepProps) {
  if (!trial) {
    return (
      <p className="quiet">
        No trial yet. Go to <Link to={`/comparisons/${comparison.id}/trial`}>Trial</Link> and choose
        several values of a knob: here stands how the lanes do over them.
      </p>
    );
  }
  if (trial.points.length < 2) {
    return (
      <p className="quiet" data-testid="one-point">
        Trial {trial.id} ran at one point. Choose several values of a knob on the step{" "}
        <Link to={`/comparisons/${comparison.id}/trial`}>Trial</Link>, such as a small and a large
        size, and see here who leads where.
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
        <Swept comparison={comparison} points={data.points} found={data.found} width={width} />
      ) : (
        <p className="quiet">Reading the findings of every point…</p>
      )}
    </div>
  );
}

type Along = Schemas["SweepFindings"];

type SweptProps = { comparison: Comparison; points: Point[]; found: Along[]; width: number };

function Swept({ comparison, points, found, width }: SweptProps) {
  const [off] = useOff(comparison.id);
  const [measure, setMeasure] = useState<Measure>("elapsed");
  const [chosen, setChosen] = useState<string | null>(null);
  const knobs = varied(points);
  const knob = chosen ?? knobs[0];
  if (!knob) return <p className="quiet">The points of this trial have all the same values.</p>;
  // Of other knobs the values in view stay as they are at the first point.
  const others = knobs.filter((name) => name !== knob);
  const shown = points.filter((p) =>
    others.every((name) => p.point[name] === points[0]?.point[name]),
  );
  const along = found.find((one) => one.knob === knob);
  const lanes = comparison.lanes.filter(
    (lane) => !off.has(lane.id) && shown.some((p) => p.lanes.some((l) => l.id === lane.id)),
  );
  return (
    <>
      <p className="sentence">
        How{" "}
        <Select
          variant="underlined"
          size="small"
          aria-label="Measure"
          popupMatchSelectWidth={false}
          value={measure}
          options={Object.entries(MEASURES).map(([value, { word }]) => ({ value, label: word }))}
          onChange={setMeasure}
        />{" "}
        goes with{" "}
        <Select
          variant="underlined"
          size="small"
          aria-label="Knob along the axis"
          popupMatchSelectWidth={false}
          value={knob}
          options={knobs.map((name) => ({ value: name, label: name }))}
          onChange={setChosen}
        />
        {others.map((name) => ` at ${name} ${String(points[0]?.point[name])}`).join(",")}.
      </p>
      {along?.words && (
        <p className="conclusion" data-testid="sweep-words">
          {along.words}{" "}
          <Button
            size="small"
            type="link"
            onClick={() => download("rule.json", "application/json", ruleOf(along, comparison))}
          >
            The rule as JSON
          </Button>
        </p>
      )}
      <Plot {...{ comparison, lanes, knob, measure, width, along }} points={shown} />
      {along && <Growths {...{ comparison, lanes, measure, along }} />}
      <Values {...{ comparison, lanes, knob, measure }} points={shown} />
    </>
  );
}

/** The regimes as a small table of decisions for a program to read. */
function ruleOf(along: Along, comparison: Comparison): string {
  const name = (id: string) => comparison.lanes.find((lane) => lane.id === id)?.name ?? id;
  const rule = along.regimes.map((regime) => ({
    from: regime.from_size,
    until: regime.until_size,
    lane: regime.lane,
    name: name(regime.lane),
    no_slower: regime.level,
  }));
  return JSON.stringify({ knob: along.knob, measure: along.measure, rule }, null, 1);
}

/** The lane that leads, as a ribbon below the axis, and where the lead changes. */
function Lead(props: {
  comparison: Comparison;
  along: Along;
  x: (size: number) => number;
  ends: [number, number];
}) {
  const { comparison, along, x, ends } = props;
  const name = (id: string) => comparison.lanes.find((lane) => lane.id === id)?.name ?? id;
  const within = (size: number | null, end: number) => x(size ?? end);
  return (
    <g data-testid="lead">
      {along.regimes.map((regime) => {
        const from = within(regime.from_size, ends[0]);
        const until = within(regime.until_size, ends[1]);
        return (
          <rect
            key={`${regime.lane} ${from}`}
            x={from}
            width={Math.max(1, until - from)}
            y={HEIGHT - 8}
            height={7}
            fill={laneColour(comparison.marks[regime.lane] ?? 0)}
          >
            <title>{`${name(regime.lane)} leads`}</title>
          </rect>
        );
      })}
      {along.crossings.map((crossing) => (
        <g key={`${crossing.before} ${crossing.after}`}>
          {crossing.low !== null && crossing.high !== null && (
            <rect
              x={x(crossing.low)}
              width={Math.max(1, x(crossing.high) - x(crossing.low))}
              y={PAD.top}
              height={HEIGHT - PAD.bottom - PAD.top}
              fill="var(--line)"
              opacity={0.45}
            />
          )}
          <line
            x1={x(crossing.at)}
            x2={x(crossing.at)}
            y1={PAD.top}
            y2={HEIGHT - PAD.bottom}
            stroke="var(--ink-3)"
            strokeDasharray="3 3"
          />
          <title>{`from here ${name(crossing.after)} leads, before it ${name(crossing.before)}`}</title>
        </g>
      ))}
    </g>
  );
}

/** How each lane grows, in words. */
function Growths(props: {
  comparison: Comparison;
  lanes: Comparison["lanes"];
  measure: Measure;
  along: Along;
}) {
  const { comparison, lanes, measure, along } = props;
  const told = lanes.flatMap((lane) => {
    const growth = along.growths.find((g) => g.lane === lane.id && g.measure === measure);
    return growth ? [{ lane, growth }] : [];
  });
  if (!told.length) return null;
  return (
    <ul className="growths" data-testid="growths">
      {told.map(({ lane, growth }) => (
        <li key={lane.id}>
          <Glyph place={comparison.marks[lane.id] ?? 0} size={13} /> <strong>{lane.name}</strong>{" "}
          <span className="quiet">{growth.words}</span>
          {growth.prediction && (
            <span className="small faint">
              {" "}
              At {count(growth.prediction.size)}, extrapolated:{" "}
              {MEASURES[measure].show(growth.prediction.value)} (
              {MEASURES[measure].show(growth.prediction.low)} to{" "}
              {MEASURES[measure].show(growth.prediction.high)}).
            </span>
          )}
          {along.left_behind
            .filter((left) => left.lane === lane.id)
            .map((left) => (
              <span key={left.lane} className="small caution">
                {" "}
                Left behind at {along.knob} {count(left.from_size)}
                {left.expected !== null && `, where ${seconds(left.expected)} were expected`}.
              </span>
            ))}
          {measure === "peak_memory" &&
            along.walls
              .filter((wall) => wall.lane === lane.id)
              .map((wall) => (
                <span key={wall.lane} className="small quiet">
                  {" "}
                  It would reach the limit of {bytes(wall.limit_bytes)} at {along.knob}{" "}
                  {count(Math.round(wall.size))} ({count(Math.round(wall.low))} to{" "}
                  {count(Math.round(wall.high))}).
                </span>
              ))}
        </li>
      ))}
    </ul>
  );
}

/** Ticks that stand far enough apart to be read, whole powers of ten before others. */
function apart(ticks: number[], at: (tick: number) => number): number[] {
  const kept: number[] = [];
  const whole = (t: number) => Math.abs(Math.log10(t) % 1) < 1e-9;
  for (const tick of [...ticks.filter(whole), ...ticks.filter((t) => !whole(t))]) {
    if (kept.every((other) => Math.abs(at(other) - at(tick)) >= LEAST_GAP)) kept.push(tick);
  }
  return kept;
}

type Shown = {
  comparison: Comparison;
  lanes: Comparison["lanes"];
  points: Point[];
  knob: string;
  measure: Measure;
};

function spots(points: Point[], lane: string, measure: Measure, knob: string): Spot[] {
  return points.flatMap((point, place) => {
    const found = point.lanes.find((l) => l.id === lane);
    const summary = found?.[measure];
    if (!found?.trusted || !summary) return [];
    const at = point.point[knob];
    const { median } = summary;
    const [low, high] = [summary.low ?? median, summary.high ?? median];
    return [{ point, x: typeof at === "number" ? at : place, value: median, low, high }];
  });
}

type PlotProps = Shown & { width: number; along: Along | undefined };

function Plot({ comparison, lanes, points, knob, measure, width, along }: PlotProps) {
  const view = useView();
  const { show, word } = MEASURES[measure];
  const drawn = lanes.map((lane) => ({ lane, spots: spots(points, lane.id, measure, knob) }));
  const all = drawn.flatMap((d) => d.spots);
  if (!all.length) return <p className="quiet">No lane has a figure of this at any point.</p>;
  const [left = 0, right = 1] = extent(all, (s) => s.x);
  const logarithmic = left > 0 && right / left >= 10;
  const x = (logarithmic ? scaleLog() : scaleLinear())
    .domain(left === right ? [left - 1, right + 1] : [left, right])
    .range([PAD.left, width - PAD.right]);
  const values = all.flatMap((s) => [s.low, s.high, s.value]).filter((v) => v > 0);
  const y = scaleLog()
    .domain([Math.min(...values) / 1.2, Math.max(...values) * 1.2])
    .range([HEIGHT - PAD.bottom, PAD.top]);
  const ticks = apart(y.ticks(6), (t) => y(t));
  const path = line<Spot>()
    .x((s) => x(s.x))
    .y((s) => y(s.value));
  const names = points.map((p, place) => {
    const at = p.point[knob];
    return { at: typeof at === "number" ? at : place, label: valueWords(at) };
  });
  return (
    <Figure
      title={`${word} of each lane over ${knob}`}
      head={["lane", knob, word, "at least", "at most"]}
      rows={drawn.flatMap((d) =>
        d.spots.map((spot) => [
          d.lane.name,
          String(spot.point.point[knob]),
          spot.value,
          spot.low,
          spot.high,
        ]),
      )}
    >
      <svg
        width={width}
        height={HEIGHT}
        role="img"
        aria-label={`${word} of each lane over ${knob}`}
        data-testid="sweep-plot"
      >
        {ticks.map((t) => (
          <g key={t} transform={`translate(0,${y(t)})`} className="axis">
            <line x1={PAD.left} x2={width - PAD.right} stroke="var(--line-2)" />
            <text x={PAD.left - 8} y={4} textAnchor="end" className="tick">
              {show(t)}
            </text>
          </g>
        ))}
        {names.map(({ at, label }) => (
          <text key={at} x={x(at)} y={HEIGHT - 20} textAnchor="middle" className="tick">
            {label}
          </text>
        ))}
        {measure === "elapsed" && along && (
          <Lead comparison={comparison} along={along} x={x} ends={[left, right]} />
        )}
        {drawn.map(({ lane, spots: own }) => {
          const place = comparison.marks[lane.id] ?? 0;
          const colour = laneColour(place);
          return (
            <g key={lane.id} data-testid={`sweep-${lane.id}`}>
              <path d={path(own) ?? ""} fill="none" stroke={colour} strokeWidth={1.6} />
              {own.map((s) => (
                <g key={s.x} transform={`translate(${x(s.x)},0)`}>
                  <line
                    y1={y(s.low)}
                    y2={y(s.high)}
                    stroke={colour}
                    strokeWidth={4}
                    opacity={0.25}
                  />
                  <path
                    d={glyphPath(place, 60)}
                    transform={`translate(0,${y(s.value)})`}
                    fill={colour}
                  >
                    <title>{`${lane.name}, ${knob} ${valueWords(s.point.point[knob])}: ${show(s.value)}`}</title>
                  </path>
                </g>
              ))}
              {view.lane === lane.id && own.length > 0 && (
                <path
                  d={path(own) ?? ""}
                  fill="none"
                  stroke={colour}
                  strokeWidth={4}
                  opacity={0.3}
                />
              )}
            </g>
          );
        })}
      </svg>
    </Figure>
  );
}

/** The same in figures: a row a value of the knob, the best of each in bold. */
function Values({ comparison, lanes, points, knob, measure }: Shown) {
  const { show } = MEASURES[measure];
  return (
    <div className="scroll">
      <table className="plain sweep-values" data-testid="sweep-values">
        <thead>
          <tr>
            <th scope="col">{knob}</th>
            <LaneHeads comparison={comparison} lanes={lanes} />
          </tr>
        </thead>
        <tbody>
          {points.map((point) => {
            const of = (id: string) => point.lanes.find((l) => l.id === id);
            const sure = lanes.flatMap((lane) => {
              const found = of(lane.id);
              return found?.trusted && found[measure] ? [found[measure].median] : [];
            });
            const best = Math.min(...sure);
            const address = `?point=${encodeURIComponent(JSON.stringify(point.point))}`;
            return (
              <tr key={JSON.stringify(point.point)}>
                <th scope="row">
                  <Link to={`/comparisons/${comparison.id}/findings${address}`}>
                    {valueWords(point.point[knob])}
                  </Link>
                </th>
                {lanes.map((lane) => {
                  const found = of(lane.id);
                  const median = found?.[measure]?.median;
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
              </tr>
            );
          })}
        </tbody>
      </table>
    </div>
  );
}

function valueWords(value: Point["point"][string] | undefined): string {
  return typeof value === "number" ? count(value) : String(value);
}
