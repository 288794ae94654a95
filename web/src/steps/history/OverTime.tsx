/** The drawing of a history: a line a lane over its trials, with the places where it turned. */
import { scaleLog, scalePoint } from "d3-scale";
import type { Comparison, Schemas } from "../../api/client";
import { glyphPath, laneColour } from "../../lanes/mark";
import { Figure } from "../../ui/Figure";
import { inUnit } from "../../ui/measureWords";
import { figures } from "../../ui/units";
import { useWidth } from "../../ui/useWidth";
import { useView } from "../../ui/view";
import type { History } from "./HistoryStep";

type PastLane = Schemas["PastLane"];
type Props = { comparison: Comparison; history: History; lanes: PastLane[] };

const HEIGHT = 300;
const PAD = { left: 62, right: 150, top: 18, bottom: 40 };
const LABEL = 15;
const TICK = 62;

/** What is drawn of a lane: its part of the anchor's, or its own where there is no anchor. */
function shown(history: History, lane: PastLane) {
  return lane.values.flatMap((value) => {
    const at = history.anchor ? (lane.lane === history.anchor ? 1 : value.of_anchor) : value.median;
    return at && at > 0 ? [{ ...value, at }] : [];
  });
}

export function OverTime({ comparison, history, lanes }: Props) {
  const [ref, width] = useWidth<HTMLDivElement>(900);
  const view = useView();
  const numbers = history.trials.map((trial) => trial.trial);
  const drawn = lanes
    .map((lane) => ({ lane, spots: shown(history, lane) }))
    .filter((one) => one.spots.length);
  const all = drawn.flatMap((one) => one.spots.map((spot) => spot.at));
  if (!all.length) return <p className="quiet">No lane has a figure of this in any trial.</p>;
  const x = scalePoint(numbers, [PAD.left, width - PAD.right]).padding(0.5);
  const [least, most] = [Math.min(...all) / 1.15, Math.max(...all) * 1.15];
  const y = scaleLog([least, most], [HEIGHT - PAD.bottom, PAD.top]);
  const words = (value: number) =>
    history.anchor ? `${figures(value)}×` : inUnit(history.unit, value);
  const every = Math.max(1, Math.ceil((numbers.length * TICK) / (width - PAD.left - PAD.right)));
  const names = placed(drawn.map((one) => y(one.spots.at(-1)?.at ?? 1)));
  const title = `${history.label} by trial`;
  const when = (trial: number) =>
    new Date(history.trials.find((one) => one.trial === trial)?.at ?? 0).toLocaleDateString(
      "en-GB",
      { day: "numeric", month: "short" },
    );
  return (
    <div ref={ref}>
      <Figure
        title={title}
        head={["lane", "trial", history.label, "of the anchor"]}
        rows={lanes.flatMap((lane) =>
          lane.values.map((v) => [lane.name, v.trial, v.median, v.of_anchor]),
        )}
      >
        <svg
          width={width}
          height={HEIGHT}
          role="group"
          aria-label={title}
          data-testid="history-plot"
        >
          {steps(y).map((t) => (
            <g key={t} className="axis" transform={`translate(0,${y(t)})`}>
              <line x1={PAD.left} x2={width - PAD.right} stroke="var(--line-2)" />
              <text x={PAD.left - 8} y={4} textAnchor="end">
                {words(t)}
              </text>
            </g>
          ))}
          {numbers.map((trial, i) => (
            <g key={trial} className="axis">
              {i % every === 0 && (
                <text x={x(trial)} y={HEIGHT - PAD.bottom + 17} textAnchor="middle">
                  {trial}
                </text>
              )}
              {i % every === 0 && (
                <text
                  x={x(trial)}
                  y={HEIGHT - PAD.bottom + 31}
                  textAnchor="middle"
                  className="faint"
                >
                  {when(trial)}
                </text>
              )}
              {(history.trials[i]?.differences.length ?? 0) > 0 && (
                <line
                  x1={x(trial)}
                  x2={x(trial)}
                  y1={PAD.top}
                  y2={HEIGHT - PAD.bottom}
                  stroke="var(--ink-3)"
                  strokeDasharray="1 4"
                >
                  <title>{history.trials[i]?.differences.map((one) => one.words).join(", ")}</title>
                </line>
              )}
            </g>
          ))}
          {drawn.map(({ lane, spots }, i) => {
            const place = comparison.marks[lane.lane] ?? 0;
            const chosen = view.lane === lane.lane;
            return (
              <g
                key={lane.lane}
                data-testid={`past-${lane.lane}`}
                opacity={view.lane && !chosen ? 0.35 : 1}
              >
                <path
                  d={spots.map((s, j) => `${j ? "L" : "M"}${x(s.trial)},${y(s.at)}`).join("")}
                  fill="none"
                  stroke={laneColour(place)}
                  strokeWidth={chosen ? 2.5 : 1.5}
                />
                {spots.map((s) => (
                  <path
                    key={s.trial}
                    transform={`translate(${x(s.trial)},${y(s.at)})`}
                    d={glyphPath(place, 52)}
                    fill={laneColour(place)}
                  >
                    <title>
                      {`${lane.name}, trial ${s.trial}: ${inUnit(history.unit, s.median)}`}
                    </title>
                  </path>
                ))}
                {lane.turns.map((turn) => {
                  const at = spots.find((s) => s.trial === turn.trial);
                  const low =
                    (x(turn.before) ?? 0) + ((x(turn.trial) ?? 0) - (x(turn.before) ?? 0)) / 2;
                  // Near the top its word would be cut.
                  const middle = Math.max(at ? y(at.at) : 0, 42);
                  return (
                    at && (
                      <g key={turn.trial} data-testid={`turn-${lane.lane}`}>
                        <line
                          x1={low}
                          x2={low}
                          y1={middle - 24}
                          y2={middle + 24}
                          stroke={laneColour(place)}
                          strokeWidth={2}
                        >
                          <title>{turn.words}</title>
                        </line>
                        <text className="turn-word" x={low} y={middle - 29} textAnchor="middle">
                          {`${figures(turn.factor)}×`}
                        </text>
                      </g>
                    )
                  );
                })}
                <text
                  className="spot-name"
                  x={width - PAD.right + 12}
                  y={(names[i] ?? 0) + 4}
                  role="button"
                  tabIndex={0}
                  onClick={() => view.set({ lane: chosen ? null : lane.lane })}
                  onKeyDown={(event) =>
                    event.key === "Enter" && view.set({ lane: chosen ? null : lane.lane })
                  }
                >
                  <title>{lane.name}</title>
                  {lane.name.length > 22 ? `${lane.name.slice(0, 21)}…` : lane.name}
                </text>
              </g>
            );
          })}
        </svg>
      </Figure>
    </div>
  );
}

/** Ticks of the axis, as many as have room. */
function steps(y: ReturnType<typeof scaleLog<number, number>>) {
  const apart: number[] = [];
  for (const t of y.ticks(8)) {
    if (!apart.length || Math.abs(y(t) - y(apart.at(-1) ?? t)) >= LABEL + 6) apart.push(t);
  }
  return apart;
}

/** Where names stand: beside the last mark, moved down where they would lie on another. */
function placed(at: number[]): number[] {
  const order = at.map((_, i) => i).sort((a, b) => (at[a] ?? 0) - (at[b] ?? 0));
  const found = [...at];
  let last = -Infinity;
  for (const i of order) {
    found[i] = last = Math.max(at[i] ?? 0, last + LABEL);
  }
  return found;
}
