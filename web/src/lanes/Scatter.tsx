/** Two measures of every lane against each other, and the lanes that nobody beats on both. */
import { extent } from "d3-array";
import { scaleLinear, scaleLog } from "d3-scale";
import type { Comparison, LaneFindings, MeasureRow } from "../api/client";
import { Figure } from "../ui/Figure";
import { inUnit } from "../ui/measureWords";
import { useWidth } from "../ui/useWidth";
import { glyphPath, laneColour } from "./mark";

type Spot = { lane: LaneFindings; x: number; y: number; ahead: boolean };

/** Whether a value is as good as another, or better. */
function asGood(row: MeasureRow, a: number, b: number): boolean {
  return row.better === "higher" ? a >= b : a <= b;
}

/** The lanes with both measures; `ahead` are those that no other beats on both. */
export function spots(x: MeasureRow, y: MeasureRow, lanes: LaneFindings[]): Spot[] {
  const found = lanes.flatMap((lane) => {
    const [a, b] = [x.lanes[lane.id], y.lanes[lane.id]];
    return a && b ? [{ lane, x: a.median, y: b.median, ahead: false }] : [];
  });
  const may = found.filter(({ lane }) => lane.state === "done" && lane.agreement?.agrees !== false);
  return found.map((spot) => ({
    ...spot,
    ahead:
      may.includes(spot) &&
      !may.some(
        (other) =>
          other !== spot &&
          asGood(x, other.x, spot.x) &&
          asGood(y, other.y, spot.y) &&
          (other.x !== spot.x || other.y !== spot.y),
      ),
  }));
}

const HEIGHT = 360;
const PAD = { left: 74, right: 24, top: 16, bottom: 44 };
const LINE = 15;

type Props = {
  comparison: Comparison;
  lanes: LaneFindings[];
  x: MeasureRow;
  y: MeasureRow;
  onOpen: (lane: string) => void;
};

export function Scatter({ comparison, lanes, x, y, onOpen }: Props) {
  const [ref, width] = useWidth<HTMLDivElement>(900);
  const found = spots(x, y, lanes);
  const h = axis(
    found.map((s) => s.x),
    [PAD.left, width - PAD.right],
  );
  const v = axis(
    found.map((s) => s.y),
    [HEIGHT - PAD.bottom, PAD.top],
  );
  const frontier = found.filter((spot) => spot.ahead).sort((a, b) => a.x - b.x);
  const path = frontier
    .map((spot, i) => (i === 0 ? `M${h(spot.x)},${v(spot.y)}` : `H${h(spot.x)}V${v(spot.y)}`))
    .join("");
  const labels = placed(
    found.map((s) => ({ x: h(s.x), y: v(s.y), text: s.lane.name })),
    width,
  );
  const place = (lane: LaneFindings) => comparison.marks[lane.id] ?? 0;
  if (!found.length) {
    return <p className="quiet">No lane has both measures here.</p>;
  }
  return (
    <div ref={ref}>
      <Figure
        title={`${y.label} over ${x.label}`}
        head={["lane", x.label, y.label, "beaten on both by none"]}
        rows={found.map((s) => [s.lane.name, s.x, s.y, s.ahead ? "yes" : "no"])}
        told={found.map((s) => [
          s.lane.name,
          inUnit(x.unit, s.x),
          inUnit(y.unit, s.y),
          s.ahead ? "yes" : "no",
        ])}
      >
        <svg width={width} height={HEIGHT} role="group" aria-label={`${y.label} over ${x.label}`}>
          {ticksOf(h).map((t) => (
            <g key={`x${t}`} className="axis">
              <line
                x1={h(t)}
                x2={h(t)}
                y1={PAD.top}
                y2={HEIGHT - PAD.bottom}
                stroke="var(--line-2)"
              />
              <text x={h(t)} y={HEIGHT - PAD.bottom + 16} textAnchor="middle">
                {inUnit(x.unit, t)}
              </text>
            </g>
          ))}
          {ticksOf(v).map((t) => (
            <g key={`y${t}`} className="axis">
              <line
                x1={PAD.left}
                x2={width - PAD.right}
                y1={v(t)}
                y2={v(t)}
                stroke="var(--line-2)"
              />
              <text x={PAD.left - 8} y={v(t) + 4} textAnchor="end">
                {inUnit(y.unit, t)}
              </text>
            </g>
          ))}
          <text className="axis-title" x={width - PAD.right} y={HEIGHT - 8} textAnchor="end">
            {x.label}
          </text>
          <text className="axis-title" x={8} y={PAD.top - 3}>
            {y.label}
          </text>
          {frontier.length > 1 && <path d={path} className="frontier" data-testid="frontier" />}
          {found.map((spot, i) => (
            <g
              key={spot.lane.id}
              role="button"
              tabIndex={0}
              className={`spot ${spot.ahead ? "ahead" : ""}`}
              data-testid={`spot-${spot.lane.id}`}
              aria-label={`${spot.lane.name}: ${inUnit(x.unit, spot.x)}, ${inUnit(y.unit, spot.y)}${spot.ahead ? "; nobody beats it on both" : ""}`}
              onClick={() => onOpen(spot.lane.id)}
              onKeyDown={(event) => event.key === "Enter" && onOpen(spot.lane.id)}
            >
              <path
                transform={`translate(${h(spot.x)},${v(spot.y)})`}
                d={glyphPath(place(spot.lane), spot.ahead ? 150 : 90)}
                fill={laneColour(place(spot.lane))}
                opacity={spot.ahead ? 1 : 0.6}
              />
              <text
                x={labels[i]?.x}
                y={labels[i]?.y}
                textAnchor={labels[i]?.end ? "end" : "start"}
                className="spot-name"
              >
                {spot.lane.name}
              </text>
            </g>
          ))}
        </svg>
      </Figure>
    </div>
  );
}

/** A logarithmic axis where all values are above nought, else a linear one from nought. */
function axis(values: number[], range: [number, number]) {
  const [low = 0, high = 1] = extent(values) as [number | undefined, number | undefined];
  if (low > 0) {
    const wide = high / low < 2 ? 1.5 : 1.25;
    return scaleLog([low / wide, high * wide], range);
  }
  return scaleLinear([Math.min(0, low), high * 1.1 || 1], range);
}

/** Some six ticks of an axis. */
function ticksOf(scale: ReturnType<typeof axis>): number[] {
  const found = scale.ticks(6);
  const [low = 1, high = 10] = scale.domain();
  if (low <= 0) return found;
  const decades = Math.log10(high / low);
  const wanted = decades > 3 ? [1] : decades > 1.2 ? [1, 2, 5] : [1, 2, 3, 4, 5, 6, 8];
  return found.filter((t) =>
    wanted.includes(Math.round(t / 10 ** Math.floor(Math.log10(t) + 1e-9))),
  );
}

type Label = { x: number; y: number; end: boolean };

/** Where names stand: beside their marks, moved down where they would lie on another. */
function placed(marks: { x: number; y: number; text: string }[], width: number): Label[] {
  const taken: { left: number; right: number; y: number }[] = [];
  const order = marks.map((_, i) => i).sort((a, b) => (marks[a]?.y ?? 0) - (marks[b]?.y ?? 0));
  const found: Label[] = marks.map(() => ({ x: 0, y: 0, end: false }));
  for (const i of order) {
    const mark = marks[i];
    if (!mark) continue;
    const room = 6.4 * mark.text.length;
    const end = mark.x + 14 + room > width - PAD.right;
    const x = end ? mark.x - 12 : mark.x + 12;
    const [left, right] = end ? [x - room, x] : [x, x + room];
    let y = mark.y + 4;
    while (taken.some((t) => t.left < right && left < t.right && Math.abs(t.y - y) < LINE)) y += 3;
    taken.push({ left, right, y });
    found[i] = { x, y, end };
  }
  return found;
}
