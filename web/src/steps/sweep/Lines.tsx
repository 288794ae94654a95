/** One knob: a line a lane with its interval, every run, who leads, and what lies beyond. */
import { useCallback, useEffect, useMemo, useRef } from "react";
import type { Comparison } from "../../api/client";
import { laneColour } from "../../lanes/mark";
import { Figure } from "../../ui/Figure";
import { count } from "../../ui/units";
import { Leads, Names, Patience, Target } from "./Around";
import {
  apart,
  isNumeric,
  type Lanes,
  type Measure,
  MEASURES,
  type Panel,
  panelWords,
  spots,
  type SweepPoint,
  valueWords,
} from "./data";
import { type Drawn, NAMES, PAD, RESIDUALS, RIBBON, type Scale, scale } from "./geometry";
import { Lane } from "./Lane";
import { Fitted, Residuals } from "./Law";

const GAP = { x: 64, y: 22 };

export type Axes = { x: "log" | "linear"; y: "log" | "linear" };

type Props = {
  comparison: Comparison;
  trial: number;
  panel: Panel;
  lanes: Lanes;
  knob: string;
  measure: Measure;
  axes: Axes;
  /** Whether what lies beyond the largest size is drawn. */
  ahead: boolean;
  /** Values that the axis must hold: panels side by side share them. */
  span?: [number, number] | undefined;
  /** Points of the trial that lies under this one. */
  under?: SweepPoint[];
  chosen: string | null;
  onChoose: (lane: string | null) => void;
  width: number;
  height: number;
  small?: boolean;
};

function spanIn(drawn: Drawn[]): [number, number] | undefined {
  let [least, most] = [Infinity, 0];
  for (const { spots: own } of drawn) {
    for (const s of own) {
      for (const value of [s.low, s.high, ...s.runs]) {
        if (value <= 0) continue;
        least = Math.min(least, value);
        most = Math.max(most, value);
      }
    }
  }
  return most ? [least, most] : undefined;
}

/** The smallest and the largest of what a drawing shows of its lanes. */
export function spanOf(panel: Panel, lanes: Lanes, knob: string, measure: Measure) {
  return spanIn(
    lanes.map((lane) => ({
      id: lane.id,
      name: lane.name,
      place: 0,
      spots: spots(panel.points, lane.id, measure, knob),
    })),
  );
}

type ShadowProps = {
  comparison: Comparison;
  points: SweepPoint[];
  lanes: Lanes;
  knob: string;
  measure: Measure;
  x: Scale;
  y: Scale;
};

/** What lanes did in another trial: pale lines beneath theirs. */
function Shadows({ comparison, points, lanes, knob, measure, x, y }: ShadowProps) {
  if (!points.length || !isNumeric(points, knob)) return null;
  return (
    <g className="shadow" data-testid="shadows">
      {lanes.map((lane) => (
        <path
          key={lane.id}
          fill="none"
          stroke={laneColour(comparison.marks[lane.id] ?? 0)}
          d={spots(points, lane.id, measure, knob)
            .map((s, i) => `${i ? "L" : "M"}${x(s.x)},${y(s.value)}`)
            .join("")}
        />
      ))}
    </g>
  );
}

export function Lines(props: Props) {
  const { comparison, trial, panel, lanes, knob, measure, axes, width, height } = props;
  const { chosen, small = false } = props;
  const { show, word } = MEASURES[measure];
  const drawn = useMemo<Drawn[]>(
    () =>
      lanes.map((lane) => ({
        id: lane.id,
        name: lane.name,
        place: comparison.marks[lane.id] ?? 0,
        spots: spots(panel.points, lane.id, measure, knob),
      })),
    [comparison.marks, knob, lanes, measure, panel.points],
  );
  const { onChoose } = props;
  const latest = useRef({ chosen, onChoose });
  useEffect(() => {
    latest.current = { chosen, onChoose };
  });
  const choose = useCallback((lane: string) => {
    const { chosen: before, onChoose: take } = latest.current;
    take(before === lane ? null : lane);
  }, []);
  const numeric = isNumeric(panel.points, knob);
  const at = panel.points.map((p, place) => (numeric ? Number(p.point[knob]) : place));
  const lead = panel.along?.leads.find((one) => one.measure === measure);
  const growths = useMemo(
    () =>
      new Map(
        panel.along?.growths.filter((g) => g.measure === measure).map((g) => [g.lane, g]) ?? [],
      ),
    [measure, panel.along],
  );
  const beyond = props.ahead && numeric ? drawn.filter((d) => growths.get(d.id)?.ahead.length) : [];
  const farthest = beyond.map((d) => growths.get(d.id)?.ahead.at(-1)?.size ?? 0);
  const [left, right] = [Math.min(...at), Math.max(...at, ...farthest)];
  const padRight = small ? 14 : NAMES;
  const law = chosen && !small ? growths.get(chosen) : undefined;
  const below = law?.laws.length ? RESIDUALS : 0;
  const bottom = height - PAD.bottom;
  const x = useMemo(
    () => scale(numeric ? axes.x : "linear", [left, right], [PAD.left, width - padRight]),
    [axes.x, left, numeric, padRight, right, width],
  );
  const own = useMemo(() => spanIn(drawn), [drawn]);
  const span = props.span ?? own;
  const tops = beyond.flatMap((d) => growths.get(d.id)?.ahead.map((p) => p.value) ?? []);
  const [least, most] = [span?.[0] ?? 1, Math.max(span?.[1] ?? 1, ...tops)];
  const y = useMemo(
    () =>
      scale(axes.y, axes.y === "log" ? [least / 1.2, most * 1.2] : [0, most * 1.05], [
        bottom,
        PAD.top,
      ]),
    [axes.y, bottom, least, most],
  );
  if (!span) return <p className="quiet">No lane has a figure of this at any point.</p>;
  const title = `${word} of each lane over ${knob}${panel.at.length ? `, ${panelWords(panel.at)}` : ""}`;
  const names = at.map((value, place) => ({
    at: value,
    label: valueWords(panel.points[place]?.point[knob]),
  }));
  const told = apart(
    names.map((n) => n.at),
    x,
    small ? 48 : GAP.x,
  );
  return (
    <Figure
      title={title}
      head={["lane", knob, word, "at least", "at most", "runs"]}
      rows={drawn.flatMap((d) =>
        d.spots.map((s) => [
          d.name,
          String(s.point.point[knob]),
          s.value,
          s.low,
          s.high,
          s.runs.length,
        ]),
      )}
    >
      <svg
        width={width}
        height={height + below}
        role="group"
        aria-label={title}
        data-testid="sweep-plot"
      >
        {measure === "elapsed" && (
          <Patience y={y} from={PAD.left} until={width - padRight} bottom={bottom} small={small} />
        )}
        {apart(y.ticks(6), y, GAP.y).map((t) => (
          <g key={t} transform={`translate(0,${y(t)})`} className="axis">
            <line x1={PAD.left} x2={width - padRight} stroke="var(--line-2)" />
            <text x={PAD.left - 8} y={4} textAnchor="end" className="tick">
              {show(t)}
            </text>
          </g>
        ))}
        {names
          .filter((n) => told.includes(n.at))
          .map((n) => (
            <text
              key={n.at}
              x={x(n.at)}
              y={bottom + RIBBON + 22}
              textAnchor="middle"
              className="tick"
            >
              {n.label}
            </text>
          ))}
        {beyond.length > 0 && (
          <g className="beyond">
            <line
              x1={x(Math.max(...at))}
              x2={x(Math.max(...at))}
              y1={PAD.top}
              y2={bottom}
              stroke="var(--ink-3)"
              strokeDasharray="1 3"
            />
            {!small && (
              <text x={x(Math.max(...at)) + 5} y={PAD.top - 6} className="tick">
                extrapolated
              </text>
            )}
            <text x={x(right)} y={bottom + RIBBON + 22} textAnchor="end" className="tick beyond">
              {count(Math.round(right))}
            </text>
          </g>
        )}
        <Target
          comparison={comparison}
          measure={measure}
          y={y}
          from={PAD.left}
          until={width - padRight}
        />
        <Shadows {...{ comparison, lanes, knob, measure, x, y }} points={props.under ?? []} />
        {lead && (
          <Leads
            {...{ comparison, lead, x, bottom, small }}
            ends={[Math.min(...at), Math.max(...at)]}
          />
        )}
        <g className={chosen ? "some-chosen" : undefined}>
          {drawn.map((d) => (
            <Lane
              key={d.id}
              chosen={d.id === chosen}
              comparison={comparison.id}
              {...{ trial, knob, measure, x, y, small }}
              drawn={d}
              growth={beyond.includes(d) ? growths.get(d.id) : undefined}
              left={
                measure === "elapsed"
                  ? panel.along?.left_behind.find((l) => l.lane === d.id)
                  : undefined
              }
              onChoose={choose}
            />
          ))}
        </g>
        {law && <Fitted law={law} x={x} y={y} />}
        {!small && <Names drawn={drawn} x={width - padRight + 10} y={y} chosen={chosen} />}
        {law && below > 0 && (
          <Residuals
            drawn={drawn.find((d) => d.id === chosen)}
            law={law}
            x={x}
            top={height}
            from={PAD.left}
            until={width - padRight}
          />
        )}
        <text className="axis-title" x={width - padRight} y={bottom + RIBBON + 40} textAnchor="end">
          {knob}
        </text>
      </svg>
    </Figure>
  );
}
