/** Two knobs: who wins at each choice of both, by how much, and how sure that is. */
import { contours } from "d3-contour";
import { Select } from "antd";
import { useId } from "react";
import { useNavigate } from "react-router";
import type { Comparison } from "../../api/client";
import { glyphPath, laneColour } from "../../lanes/mark";
import { Figure } from "../../ui/Figure";
import { figures } from "../../ui/units";
import {
  findingsAt,
  laneName,
  type Lanes,
  type Measure,
  MEASURES,
  type Panel,
  panelWords,
  seenAt,
  type SweepPoint,
  valuesOf,
  valueWords,
} from "./data";

const PAD = { left: 96, right: 24, top: 8, bottom: 46 };
const MOST_CELL = 280;
const MOST_TALL = 64;
const ROOM_FOR_WORDS = 46;
/** The margin at which a cell is drawn in full strength. */
const FULL = Math.log(10);
const RATIOS = [0.1, 0.2, 0.5, 1, 2, 5, 10];

type Cell = {
  point: SweepPoint;
  column: number;
  row: number;
  lane: string;
  behind: string | null;
  margin: number | null;
  sure: boolean;
};

type Props = {
  comparison: Comparison;
  trial: number;
  panel: Panel;
  lanes: Lanes;
  across: [string, string];
  measure: Measure;
  /** Two lanes by id whose ratio is drawn as lines. */
  two: [string, string] | null;
  width: number;
};

/** The winner of a point by a measure. By elapsed time as it was judged; by others it is sure where
 * the intervals of the first two lie apart. */
function winner(
  point: SweepPoint,
  lanes: Lanes,
  measure: Measure,
): Omit<Cell, "point" | "column" | "row"> | null {
  const able = point.lanes
    .flatMap((own) => {
      const seen = own.trusted ? seenAt(own, measure) : null;
      return seen && lanes.some((lane) => lane.id === own.id) ? [{ id: own.id, ...seen }] : [];
    })
    .sort((a, b) => a.median - b.median);
  const [best, next] = able;
  if (!best) return null;
  const judged =
    measure === "elapsed" && point.margin?.lane === best.id && point.margin.behind === next?.id;
  const apart = next && best.high !== null && next.low !== null && best.high < next.low;
  return {
    lane: best.id,
    behind: next?.id ?? null,
    margin: next && best.median > 0 ? next.median / best.median : null,
    sure: !next || (judged ? point.margin?.ratio?.verdict === "faster" : !!apart),
  };
}

/** By how much the next lane is behind, and whether that is sure. */
function marginWords(cell: Cell): string {
  // Of nothing held there is no multiple.
  if (cell.margin === null) return "";
  return `${cell.sure ? "" : "≈ "}${figures(cell.margin, 2)}×`;
}

export function GridMap(props: Props) {
  const { comparison, trial, panel, lanes, across, measure, two, width } = props;
  const navigate = useNavigate();
  const id = useId();
  const [xs, ys] = across.map((knob) => valuesOf(panel.points, knob)) as [unknown[], unknown[]];
  const cells = panel.points.flatMap((point): Cell[] => {
    const column = xs.indexOf(point.point[across[0]]);
    const row = ys.indexOf(point.point[across[1]]);
    const found = winner(point, lanes, measure);
    return found ? [{ point, column, row, ...found }] : [];
  });
  const cell = Math.min(MOST_CELL, (width - PAD.left - PAD.right) / xs.length);
  const tall = Math.min(cell, MOST_TALL);
  const inner = { width: cell * xs.length, height: tall * ys.length };
  const height = inner.height + PAD.top + PAD.bottom;
  // The first value of the second knob lies at the bottom, as on an axis.
  const top = (row: number) => PAD.top + (ys.length - 1 - row) * tall;
  const { word } = MEASURES[measure];
  const rest = panel.at.length ? `, ${panelWords(panel.at)}` : "";
  const title = `Who leads by ${word} over ${across[0]} and ${across[1]}${rest}`;
  const name = (lane: string | null) => (lane ? laneName(comparison, lane) : "");
  const told = (one: Cell) => {
    const where = across.map((knob) => `${knob} ${valueWords(one.point.point[knob])}`).join(", ");
    const by = one.behind ? `${marginWords(one)} less than ${name(one.behind)}`.trim() : "alone";
    return `${where}: ${name(one.lane)}, ${by}`;
  };
  const move = (event: React.KeyboardEvent<SVGElement>, one: Cell) => {
    const step = { ArrowRight: [1, 0], ArrowLeft: [-1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] }[
      event.key
    ];
    if (event.key === "Enter") void navigate(findingsAt(comparison.id, trial, one.point.point));
    if (!step) return;
    event.preventDefault();
    const at = `[data-cell="${one.column + (step[0] ?? 0)} ${one.row + (step[1] ?? 0)}"]`;
    event.currentTarget.parentElement?.querySelector<SVGElement>(at)?.focus();
  };
  return (
    <Figure
      title={title}
      head={[across[0], across[1], "leads", "times less than", "the next", "sure"]}
      rows={cells.map((one) => [
        String(one.point.point[across[0]]),
        String(one.point.point[across[1]]),
        name(one.lane),
        one.margin,
        name(one.behind),
        one.sure ? "yes" : "no",
      ])}
    >
      <svg
        width={inner.width + PAD.left + PAD.right}
        height={height}
        role="group"
        aria-label={title}
        data-testid="sweep-map"
      >
        <defs>
          <pattern
            id={`${id}-unsure`}
            width={7}
            height={7}
            patternUnits="userSpaceOnUse"
            patternTransform="rotate(45)"
          >
            <line y2={7} stroke="var(--ground)" strokeWidth={5} opacity={0.75} />
          </pattern>
          <clipPath id={`${id}-inside`}>
            <rect
              x={PAD.left + 1}
              y={PAD.top + 1}
              width={inner.width - 2}
              height={inner.height - 2}
            />
          </clipPath>
        </defs>
        {cells.map((one) => {
          const place = comparison.marks[one.lane] ?? 0;
          const strength = one.margin ? Math.min(1, Math.log(one.margin) / FULL) : 1;
          return (
            <g
              key={`${one.column} ${one.row}`}
              className="map-cell"
              data-cell={`${one.column} ${one.row}`}
              data-lane={one.lane}
              data-sure={one.sure}
              transform={`translate(${PAD.left + one.column * cell},${top(one.row)})`}
              tabIndex={one.column === 0 && one.row === 0 ? 0 : -1}
              role="link"
              aria-label={told(one)}
              onClick={() => void navigate(findingsAt(comparison.id, trial, one.point.point))}
              onKeyDown={(event) => move(event, one)}
            >
              <rect
                width={cell - 1}
                height={tall - 1}
                fill={laneColour(place)}
                opacity={0.18 + 0.62 * strength}
              />
              {!one.sure && <rect width={cell - 1} height={tall - 1} fill={`url(#${id}-unsure)`} />}
              <circle
                cx={cell / 2}
                cy={tall / 2 - (cell > ROOM_FOR_WORDS ? 8 : 0)}
                r={9}
                fill="var(--ground)"
              />
              <path
                d={glyphPath(place, 70)}
                transform={`translate(${cell / 2},${tall / 2 - (cell > ROOM_FOR_WORDS ? 8 : 0)})`}
                fill={laneColour(place)}
              />
              {cell > ROOM_FOR_WORDS && one.margin && (
                <text x={cell / 2} y={tall - 9} textAnchor="middle" className="cell-word">
                  {marginWords(one)}
                </text>
              )}
              <title>{told(one)}</title>
            </g>
          );
        })}
        {two && (
          <g clipPath={`url(#${id}-inside)`}>
            <IsoLines
              {...{ panel, across, measure, two, cell, tall }}
              columns={xs.length}
              rows={ys.length}
              origin={[PAD.left, PAD.top]}
            />
          </g>
        )}
        {xs.map((value, column) => (
          <text
            key={String(value)}
            x={PAD.left + (column + 0.5) * cell}
            y={PAD.top + inner.height + 16}
            textAnchor="middle"
            className="tick"
          >
            {valueWords(value as SweepPoint["point"][string])}
          </text>
        ))}
        {ys.map((value, row) => (
          <text
            key={String(value)}
            x={PAD.left - 8}
            y={top(row) + tall / 2 + 4}
            textAnchor="end"
            className="tick"
          >
            {valueWords(value as SweepPoint["point"][string])}
          </text>
        ))}
        <text className="axis-title" x={PAD.left + inner.width} y={height - 8} textAnchor="end">
          {across[0]}
        </text>
        <text className="axis-title" x={4} y={PAD.top + 12}>
          {across[1]}
        </text>
      </svg>
    </Figure>
  );
}

/** Where one lane takes a tenth of another, as much, ten times as much, and between. */
function IsoLines(props: {
  panel: Panel;
  across: [string, string];
  measure: Measure;
  two: [string, string];
  cell: number;
  tall: number;
  columns: number;
  rows: number;
  origin: [number, number];
}) {
  const { panel, across, measure, two, cell, tall, columns, rows, origin } = props;
  const [xs, ys] = across.map((knob) => valuesOf(panel.points, knob)) as [unknown[], unknown[]];
  const ratios = new Map<string, number>();
  for (const { point, lanes } of panel.points) {
    const [one, other] = two.map((id) => {
      const lane = lanes.find((own) => own.id === id);
      return lane ? seenAt(lane, measure)?.median : undefined;
    });
    const column = xs.indexOf(point[across[0]]);
    const row = ys.indexOf(point[across[1]]);
    if (one && other) ratios.set(`${column} ${rows - 1 - row}`, Math.log(one / other));
  }
  // The outermost cells once more on each side: lines that close along the edge lie beyond it.
  const [wide, high] = [columns + 2, rows + 2];
  const inside = (at: number, many: number) => Math.min(many - 1, Math.max(0, at - 1));
  const grid = Array.from(
    { length: wide * high },
    (_, at) =>
      ratios.get(`${inside(at % wide, columns)} ${inside(Math.floor(at / wide), rows)}`) ?? NaN,
  );
  const lines = contours().size([wide, high]).thresholds(RATIOS.map(Math.log))(grid);
  const [left, top] = origin;
  const seen = ([x, y]: [number, number]) =>
    x > left + 4 && y > top + 14 && x < left + columns * cell - 30 && y < top + rows * tall - 4;
  return (
    <g data-testid="iso-lines">
      {lines.map((found, place) => {
        const rings = found.coordinates
          .flat()
          .map((ring) =>
            ring.map(([x = 0, y = 0]): [number, number] => [
              left + (x - 1) * cell,
              top + (y - 1) * tall,
            ]),
          );
        if (!rings.length) return null;
        const ratio = RATIOS[place] ?? 1;
        const label = rings.flat().find(seen);
        return (
          <g key={ratio} data-ratio={ratio}>
            <path
              d={rings.map((ring) => `M${ring.map((at) => at.join(",")).join("L")}Z`).join("")}
              fill="none"
              stroke="var(--ink)"
              strokeWidth={ratio === 1 ? 2.4 : 1}
              strokeDasharray={ratio === 1 ? undefined : "4 3"}
            />
            {label && (
              <text x={label[0] + 4} y={label[1] - 3} className="iso-word">
                {figures(ratio, 1)}×
              </text>
            )}
          </g>
        );
      })}
    </g>
  );
}

/** The choice of two lanes whose ratio is drawn as lines. */
export function TwoLanes(props: {
  lanes: Lanes;
  two: [string, string] | null;
  onChange: (two: [string, string] | null) => void;
}) {
  const { lanes, two, onChange } = props;
  const [first, second] = [lanes[0]?.id, lanes[1]?.id];
  if (!first || !second) return null;
  const choose = (label: string, place: 0 | 1) => (
    <Select
      variant="underlined"
      size="small"
      aria-label={label}
      popupMatchSelectWidth={false}
      value={two?.[place] ?? ""}
      options={[
        ...(place === 0 ? [{ value: "", label: "no two lanes" }] : []),
        ...lanes.map((lane) => ({ value: lane.id, label: lane.name })),
      ]}
      onChange={(lane) => {
        if (!lane) return onChange(null);
        const other = two?.[1 - place] ?? (lane === first ? second : first);
        onChange(place === 0 ? [lane, other] : [other, lane]);
      }}
    />
  );
  return (
    <span className="two-lanes">
      Lines of the ratio of {choose("First lane of the ratio", 0)}
      {two && <> to {choose("Second lane of the ratio", 1)}</>}
    </span>
  );
}
