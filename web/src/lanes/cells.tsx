/** What stands in a lane's row of the board, column by column. */
import { max } from "d3-array";
import { scaleLinear, scaleLog } from "d3-scale";
import type { LaneFindings, Schemas } from "../api/client";
import { Bands, type Scale } from "../plot/time";
import { seconds } from "../ui/units";
import { glyphPath, laneColour } from "./mark";
import { aboutRatio, toldRatio } from "./ratio";

const PAD = 14;
/** A verdict of as many letters leaves its interval no room; it stands where one points at it. */
const NARROW = 20;

export type RowProps = {
  lane: LaneFindings;
  lanes: LaneFindings[];
  /** The lane in the trial that lies under this one. */
  shadow?: LaneFindings | undefined;
  place: number;
  scale: Scale;
  height: number;
  target: number | null;
  memoryTarget: number | null;
};

export type Cell = Schemas["BoardCell"];

type CellProps = Omit<RowProps, "scale" | "target" | "memoryTarget"> & {
  width: number;
  log: boolean;
};

export function Elapsed({
  lane,
  shadow,
  place,
  scale,
  width,
  target,
  height,
}: RowProps & { width: number }) {
  const middle = height - 17;
  const colour = laneColour(place);
  const elapsed = lane.elapsed;
  const counted = lane.runs.filter((run) => run.counted);
  const bound = lane.runs.find((run) => run.at_least_s !== null);
  const label = elapsed
    ? `${seconds(elapsed.median)}${
        elapsed.low !== null ? `, ${seconds(elapsed.low)} to ${seconds(elapsed.high)}` : ""
      }`
    : lane.trouble || lane.state;
  return (
    <svg width={width} height={height} role="img" aria-label={`${lane.name}: ${label}`}>
      <Bands scale={scale} height={height} />
      {shadow && <Shadow lane={shadow} scale={scale} middle={middle} />}
      {target && (
        <line
          x1={scale(target)}
          x2={scale(target)}
          y2={height}
          stroke="var(--target)"
          strokeWidth={1.5}
          strokeDasharray="4 3"
        />
      )}
      {elapsed?.low != null && elapsed.high != null && (
        <rect
          x={scale(elapsed.low)}
          width={Math.max(2, scale(elapsed.high) - scale(elapsed.low))}
          y={middle - 7}
          height={14}
          rx={2}
          fill={colour}
          opacity={0.22}
        />
      )}
      {lane.runs
        .filter((run) => run.warm_up && run.state === "done")
        .map((run) => (
          <circle
            key={run.run}
            cx={scale(run.elapsed_s ?? 1)}
            cy={middle}
            r={2.6}
            fill="none"
            stroke={colour}
            opacity={0.7}
          >
            <title>{`warm-up: ${seconds(run.elapsed_s)}`}</title>
          </circle>
        ))}
      {lane.runs
        .filter((run) => run.set_aside)
        .map((run) => (
          <circle
            key={run.run}
            data-testid="set-aside"
            cx={scale(run.elapsed_s ?? 1)}
            cy={middle}
            r={2.6}
            fill={colour}
            opacity={0.28}
          >
            <title>{`${seconds(run.elapsed_s)}, disturbed by ${run.disturbed}: done again`}</title>
          </circle>
        ))}
      {counted.map((run, i) => (
        <circle
          key={run.run}
          data-testid="dot"
          cx={scale(run.elapsed_s ?? 1)}
          cy={middle + ((i % 5) - 2) * 2.2}
          r={2.6}
          fill={colour}
        >
          <title>{`round ${run.round}: ${seconds(run.elapsed_s)}`}</title>
        </circle>
      ))}
      {elapsed && (
        <>
          <line
            x1={scale(elapsed.median)}
            x2={scale(elapsed.median)}
            y1={middle - 10}
            y2={middle + 10}
            stroke={colour}
            strokeWidth={2.5}
          />
          <MedianLabel x={scale(elapsed.median)} width={width} text={seconds(elapsed.median)} />
        </>
      )}
      {!elapsed && bound && (
        <g transform={`translate(${scale(bound.at_least_s ?? 1)},${middle})`}>
          <path d="M0 -8V8M3 -5L10 0L3 5" stroke={colour} strokeWidth={2} fill="none" />
        </g>
      )}
      {!elapsed && (
        <text className="told" x={width - 8} y={15} textAnchor="end">
          {cut(lane.trouble || lane.state, width / 6.4)}
        </text>
      )}
    </svg>
  );
}

/** The runs of another trial, and their median: pale, and beneath those in view. */
function Shadow(props: { lane: LaneFindings; scale: Scale; middle: number }) {
  const { lane, scale, middle } = props;
  const counted = lane.runs.filter((run) => run.counted);
  return (
    <g className="shadow" data-testid={`shadow-${lane.id}`}>
      {counted.map((run) => (
        <circle key={run.run} cx={scale(run.elapsed_s ?? 1)} cy={middle + 8} r={2.2} />
      ))}
      {lane.elapsed && (
        <line
          x1={scale(lane.elapsed.median)}
          x2={scale(lane.elapsed.median)}
          y1={middle + 2}
          y2={middle + 14}
        >
          <title>{`in the other trial: ${seconds(lane.elapsed.median)}`}</title>
        </line>
      )}
    </g>
  );
}

function MedianLabel({ x, width, text }: { x: number; width: number; text: string }) {
  const half = text.length * 3.9;
  const at = Math.min(width - half - 2, Math.max(half + 2, x));
  return (
    <text className="median" x={at} y={15} textAnchor="middle" data-testid="median">
      {text}
    </text>
  );
}

function cut(text: string, most: number): string {
  const line = text.split("\n")[0] ?? "";
  return line.length > most ? `${line.slice(0, Math.max(8, most - 1))}…` : line;
}

export function RatioCell({ lane, lanes, place, width }: CellProps) {
  const w = width - PAD;
  const ratio = lane.ratio;
  if (!ratio) return <span className="faint">–</span>;
  if (lane.baseline) return <span className="faint baseline-word">baseline</span>;
  const all = lanes.flatMap((l) => [l.ratio?.low, l.ratio?.high, l.ratio?.value]);
  const known = all.filter((v): v is number => v != null && v > 0);
  const scale = scaleLog([Math.min(0.8, ...known), Math.max(1.25, ...known)], [4, w - 4]).clamp(
    true,
  );
  const told = toldRatio(ratio);
  return (
    <div className="ratio-cell" title={aboutRatio(ratio)}>
      <div className="ratio-words">
        {told.factor && <strong data-testid="ratio">{told.factor}</strong>}{" "}
        <span className="quiet small">{told.verdict}</span>
        {told.span && (told.factor || told.verdict.length < NARROW) && (
          <span className="small faint nowrap"> {told.span}</span>
        )}
      </div>
      <svg width={w} height={16} aria-hidden="true">
        <line x1={scale(1)} x2={scale(1)} y1={0} y2={16} stroke="var(--ink-3)" />
        <line x1={4} x2={w - 4} y1={8} y2={8} stroke="var(--line)" />
        {ratio.low !== null && ratio.high !== null && (
          <line
            x1={scale(ratio.low)}
            x2={scale(ratio.high)}
            y1={8}
            y2={8}
            stroke={laneColour(place)}
            strokeWidth={5}
            opacity={0.35}
          />
        )}
        <path
          transform={`translate(${scale(ratio.value)},8)`}
          d={glyphPath(place, 44)}
          fill={laneColour(place)}
        />
      </svg>
    </div>
  );
}

const SHADES = [0.95, 0.4, 0.62, 0.8, 0.5];

/** Words, and beneath them a bar of the value or of its parts on the axis of all lanes. */
export function BarCell(props: CellProps & { cell: Cell; cells: Cell[]; target: number | null }) {
  const { cell, cells, place, width, log, target } = props;
  const w = width - PAD;
  const sum = (parts: Cell["parts"]) => parts.reduce((total, part) => total + part.value, 0);
  const most = max(cells, (one) => one.value ?? sum(one.parts)) || 1;
  const scale = scaleLinear([0, most], [0, w]);
  return (
    <div title={cell.about}>
      <div className={`figure cut ${cell.tone}`}>
        {cell.text} {width >= 96 && <span className="small faint">{cell.more}</span>}
      </div>
      <svg width={w} height={10} aria-hidden="true">
        {log ? (
          <LogMark
            all={cells.flatMap((one) => one.value ?? [])}
            value={cell.value ?? 0}
            w={w}
            place={place}
          />
        ) : cell.parts.length ? (
          <Parts cell={cell} scale={scale} place={place} />
        ) : (
          <rect
            width={Math.max(1, scale(cell.value ?? 0))}
            height={10}
            fill={laneColour(place)}
            opacity={0.75}
          />
        )}
        {target !== null && target < most && !log && (
          <line
            x1={scale(target)}
            x2={scale(target)}
            y2={10}
            stroke="var(--target)"
            strokeWidth={1.5}
          />
        )}
      </svg>
    </div>
  );
}

/** Parts of a bar one behind the other; those that overlap one below the other. */
function Parts(props: { cell: Cell; scale: (value: number) => number; place: number }) {
  const { cell, scale, place } = props;
  const widths = cell.parts.map((part) => scale(part.value));
  const starts = widths.map((_, i) => widths.slice(0, i).reduce((sum, x) => sum + x, 0));
  const high = cell.overlap ? 10 / cell.parts.length : 10;
  return cell.parts.map((part, i) => (
    <rect
      key={part.name ?? ""}
      x={cell.overlap ? 0 : starts[i]}
      y={cell.overlap ? i * high : 0}
      width={Math.max(0.8, widths[i] ?? 0)}
      height={high}
      fill={part.name === null ? "var(--line)" : laneColour(place)}
      opacity={part.name === null ? 1 : SHADES[i % SHADES.length]}
    />
  ));
}

export function WordsCell({ cell }: { cell: Cell }) {
  return (
    <span className={`answer ${cell.tone}`} title={cell.about || undefined}>
      {cell.text}
      <span className="small faint">{cell.more}</span>
    </span>
  );
}

function LogMark(props: { all: number[]; value: number; w: number; place: number }) {
  const known = props.all.filter((v) => v > 0);
  if (props.value <= 0 || !known.length) return null;
  const [low, high] = [Math.min(...known), Math.max(...known)];
  const scale = scaleLog([low / 1.1, high * 1.1], [4, props.w - 4]);
  return (
    <>
      <line x1={0} x2={props.w} y1={5} y2={5} stroke="var(--line)" />
      <path
        transform={`translate(${scale(props.value)},5)`}
        d={glyphPath(props.place, 44)}
        fill={laneColour(props.place)}
      />
    </>
  );
}
