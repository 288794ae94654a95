/** Months' cost of each lane over a knob: what was run, what growth foretells, and who is cheapest. */
import { line } from "d3-shape";
import type { Comparison, Schemas } from "../../api/client";
import { laneColour } from "../../lanes/mark";
import { Figure } from "../../ui/Figure";
import { count, figures } from "../../ui/units";
import { CrossingMark, Names } from "../sweep/Around";
import { apart, valueWords } from "../sweep/data";
import { NAMES, PAD, scale } from "../sweep/geometry";

type Along = Schemas["CostAlong"];

const HEIGHT = 360;
const LABELS = { x: 64, y: 22 };

export function CostLines(props: {
  comparison: Comparison;
  along: Along;
  currency: string;
  width: number;
}) {
  const { comparison, along, currency, width } = props;
  const known = along.sizes.filter((size) => size.size > 0);
  const lanes = comparison.lanes
    .filter((lane) => known.some((size) => size.lanes[lane.id]))
    .map((lane) => ({
      id: lane.id,
      name: lane.name || lane.id,
      place: comparison.marks[lane.id] ?? 0,
      spots: known.flatMap((size) => {
        const cost = size.lanes[lane.id];
        if (!cost || cost.value <= 0) return [];
        const { value } = cost;
        const [low, high] = [cost.low ?? value, cost.high ?? value];
        return [{ x: size.size, value, low, high, ahead: size.predicted }];
      }),
    }));
  const spots = lanes.flatMap((lane) => lane.spots);
  const sizes = [...new Set(spots.map((spot) => spot.x))].sort((a, b) => a - b);
  const [least, most] = [sizes[0] ?? 0, sizes.at(-1) ?? 0];
  if (sizes.length < 2) return null;
  const bottom = HEIGHT - PAD.bottom;
  const right = width - NAMES;
  const values = spots.flatMap((spot) => [spot.low, spot.high]).filter((value) => value > 0);
  const x = scale("log", [least, most], [PAD.left, right]);
  const y = scale("log", [Math.min(...values) / 1.2, Math.max(...values) * 1.2], [bottom, PAD.top]);
  const path = line<{ x: number; value: number }>()
    .x((spot) => x(spot.x))
    .y((spot) => y(spot.value));
  const rest = Object.entries(along.at).map(([knob, value]) => `${knob} ${valueWords(value)}`);
  const title = ["Cost a month of each lane over", [along.knob, ...rest].join(", ")].join(" ");
  const told = apart(sizes, x, LABELS.x);
  const ran = Math.max(...known.filter((size) => !size.predicted).map((size) => size.size));
  return (
    <Figure
      title={title}
      head={["lane", along.knob, "a month", "at least", "at most", "predicted"]}
      rows={lanes.flatMap((lane) =>
        lane.spots.map((s) => [
          lane.name,
          String(s.x),
          s.value,
          s.low,
          s.high,
          s.ahead ? "yes" : "no",
        ]),
      )}
    >
      <svg
        width={width}
        height={HEIGHT}
        role="img"
        aria-label={title}
        data-testid="cost-lines"
        className="cost-lines"
      >
        {apart(y.ticks(6), y, LABELS.y).map((tick) => (
          <g key={tick} transform={`translate(0,${y(tick)})`} className="axis">
            <line x1={PAD.left} x2={right} stroke="var(--line-2)" />
            <text x={PAD.left - 8} y={4} textAnchor="end" className="tick">
              {figures(tick, 2)}
            </text>
          </g>
        ))}
        {told.map((size) => (
          <text key={size} x={x(size)} y={bottom + 22} textAnchor="middle" className="tick">
            {count(Number(size.toPrecision(3)))}
          </text>
        ))}
        {ran < most && (
          <g>
            <line
              x1={x(ran)}
              x2={x(ran)}
              y1={PAD.top}
              y2={bottom}
              stroke="var(--ink-3)"
              strokeDasharray="1 3"
            />
            <text x={x(ran) + 5} y={PAD.top - 6} className="tick">
              foretold
            </text>
          </g>
        )}
        {along.crossings.map((crossing) => (
          <CrossingMark
            key={`${crossing.before} ${crossing.after} ${crossing.at}`}
            {...{ crossing, x, bottom }}
            id="cost-crossing"
            word
          />
        ))}
        {lanes.map((lane) => {
          const colour = laneColour(lane.place);
          const own = lane.spots.filter((spot) => !spot.ahead);
          const beyond = [...own.slice(-1), ...lane.spots.filter((spot) => spot.ahead)];
          return (
            <g key={lane.id} data-testid={`cost-${lane.id}`}>
              {lane.spots.map((spot) => (
                <line
                  key={spot.x}
                  x1={x(spot.x)}
                  x2={x(spot.x)}
                  y1={y(spot.low)}
                  y2={y(spot.high)}
                  stroke={colour}
                  strokeWidth={5}
                  opacity={0.3}
                />
              ))}
              <path d={path(own) ?? ""} fill="none" stroke={colour} strokeWidth={1.8} />
              {beyond.length > 1 && (
                <path
                  d={path(beyond) ?? ""}
                  fill="none"
                  stroke={colour}
                  strokeWidth={1.4}
                  strokeDasharray="5 4"
                />
              )}
              {own.map((spot) => (
                <circle key={spot.x} cx={x(spot.x)} cy={y(spot.value)} r={3} fill={colour}>
                  <title>{`${lane.name}, ${along.knob} ${count(spot.x)}: ${figures(spot.value)} ${currency}`}</title>
                </circle>
              ))}
            </g>
          );
        })}
        <Names drawn={lanes} x={right + 10} y={y} chosen={null} />
        <text className="axis-title" x={right} y={bottom + 40} textAnchor="end">
          {along.knob}
        </text>
        <text className="axis-title" x={0} y={PAD.top - 10}>
          {currency ? `${currency} a month` : "a month"}
        </text>
      </svg>
    </Figure>
  );
}
