/** What stands in a lane's row of the board, column by column. */
import { max } from "d3-array";
import { scaleLinear, scaleLog } from "d3-scale";
import type { LaneFindings, MeasureRow } from "../api/client";
import { Bands, type Scale } from "../plot/time";
import { inUnit } from "../ui/measureWords";
import { bytes, figures, plural, seconds } from "../ui/units";
import { glyphPath, laneColour } from "./mark";
import { aboutRatio, isApart, shortRatio, toldRatio } from "./ratio";
import { verdictWord } from "./words";

const PAD = 14;

export type RowProps = {
  lane: LaneFindings;
  lanes: LaneFindings[];
  place: number;
  scale: Scale;
  height: number;
  target: number | null;
  memoryTarget: number | null;
};

type CellProps = Omit<RowProps, "scale"> & { width: number; log: boolean };

export function Elapsed({
  lane,
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
        {told.span && <span className="small faint nowrap"> {told.span}</span>}
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

export function CpuCell({ lane, lanes, place, width }: CellProps) {
  const w = width - PAD;
  if (!lane.cpu_user || !lane.cpu_system || !lane.cpu_total) {
    return <span className="faint">–</span>;
  }
  const scale = scaleLinear([0, max(lanes, (l) => l.cpu_total?.median ?? 0) || 1], [0, w]);
  const user = lane.cpu_user.median;
  const system = lane.cpu_system.median;
  return (
    <div title={`user ${seconds(user)}, system ${seconds(system)}`}>
      <div className="figure">
        {seconds(lane.cpu_total.median)}{" "}
        {lane.cores_busy !== null && (
          <span className="small faint">{figures(lane.cores_busy, 2)} cores</span>
        )}
      </div>
      <svg width={w} height={10} role="img" aria-label="user and system CPU time">
        <rect width={Math.max(1, scale(user))} height={10} fill={laneColour(place)} />
        <rect
          x={Math.max(1, scale(user))}
          width={scale(system)}
          height={10}
          fill={laneColour(place)}
          opacity={0.4}
        />
      </svg>
    </div>
  );
}

export function MemoryCell({ lane, lanes, place, memoryTarget, width }: CellProps) {
  const w = width - PAD;
  if (!lane.peak_memory) return <span className="faint">–</span>;
  const most = max(lanes, (l) => l.peak_memory?.median ?? 0) || 1;
  const scale = scaleLinear([0, most], [0, w]);
  const value = lane.peak_memory.median;
  const over = memoryTarget !== null && value > memoryTarget;
  return (
    <div
      title={`above its start; ${bytes(lane.peak_memory_absolute?.median)} in all${over ? "; over the target" : ""}`}
    >
      <div className={`figure ${over ? "caution" : ""}`}>{bytes(value)}</div>
      <svg width={w} height={10} aria-hidden="true">
        <rect
          width={Math.max(1, scale(value))}
          height={10}
          fill={laneColour(place)}
          opacity={0.75}
        />
        {memoryTarget !== null && memoryTarget < most && (
          <line
            x1={scale(memoryTarget)}
            x2={scale(memoryTarget)}
            y2={10}
            stroke="var(--target)"
            strokeWidth={1.5}
          />
        )}
      </svg>
    </div>
  );
}

const SHADES = [0.95, 0.62, 0.38, 0.8, 0.5];

export function Stages({ lane, lanes, place, width }: CellProps) {
  const w = width - PAD;
  const longest = max(lanes, (l) => l.elapsed?.median ?? 0) || 1;
  const scale = scaleLinear([0, longest], [0, w]);
  const widths = lane.stages.map((stage) => scale(stage.elapsed_s));
  const starts = widths.map((_, i) => widths.slice(0, i).reduce((sum, x) => sum + x, 0));
  const biggest = [...lane.stages].sort((a, b) => b.elapsed_s - a.elapsed_s)[0];
  if (!biggest) return <span className="faint">–</span>;
  const all = lane.stages.reduce((sum, stage) => sum + stage.elapsed_s, 0);
  const beside = lane.stages.some((stage) => stage.overlaps);
  const high = beside ? 10 / lane.stages.length : 10;
  return (
    <div
      title={lane.stages
        .map((stage) => `${stage.name ?? "outside stages"}: ${seconds(stage.elapsed_s)}`)
        .join("\n")}
    >
      <div className="figure cut small">
        {biggest.name === null && lane.stages.length === 1
          ? "no stages named"
          : beside
            ? `${biggest.name} ${seconds(biggest.elapsed_s)}; stages overlap`
            : `${biggest.name ?? "outside stages"} ${figures((100 * biggest.elapsed_s) / (all || 1), 2)} %`}
      </div>
      <svg width={w} height={10} role="img" aria-label={`Stages of ${lane.name}`}>
        {lane.stages.map((stage, i) => (
          <rect
            key={stage.name ?? ""}
            x={beside ? 0 : starts[i]}
            y={beside ? i * high : 0}
            width={Math.max(0.8, widths[i] ?? 0)}
            height={high}
            fill={stage.name === null ? "var(--line)" : laneColour(place)}
            opacity={stage.name === null ? 1 : SHADES[i % SHADES.length]}
          />
        ))}
      </svg>
    </div>
  );
}

export function AnswerCell({ lane }: CellProps) {
  const agreement = lane.agreement;
  return (
    <span className={`answer ${agreement && !agreement.agrees ? "bad" : ""}`}>
      {agreement ? verdictWord(agreement) : "–"}
      <span className="small faint">
        {lane.answer_rows !== null && plural(lane.answer_rows, "row")}
      </span>
    </span>
  );
}

/** Any other measure: its median, how it stands to the baseline's, and where it lies on the
 * column's axis. */
export function MeasureCell(props: CellProps & { measure: MeasureRow }) {
  const { lane, lanes, place, width, log, measure: row } = props;
  const w = width - PAD;
  const value = row.lanes[lane.id];
  if (!value) return <span className="faint">–</span>;
  const all = lanes.flatMap((l) => row.lanes[l.id] ?? []);
  const ratio = value.ratio;
  const told =
    lane.baseline || !ratio || width < 96
      ? ""
      : isApart(ratio)
        ? shortRatio(ratio)
        : ratio.verdict === "not told apart"
          ? "not told apart"
          : "";
  const title = [
    `${inUnit(row.unit, value.smallest)} to ${inUnit(row.unit, value.largest)}, ${plural(value.count, "run")}`,
    ratio && !lane.baseline ? aboutRatio(ratio) : "",
  ]
    .filter(Boolean)
    .join("; ");
  return (
    <div title={title}>
      <div className="figure">
        {inUnit(row.unit, value.median)} {told && <span className="small faint">{told}</span>}
      </div>
      <svg width={w} height={10} aria-hidden="true">
        {log ? (
          <LogMark all={all.map((v) => v.median)} value={value.median} w={w} place={place} />
        ) : (
          <rect
            width={scaleLinear([0, max(all, (v) => v.median) || 1], [0, w])(value.median)}
            height={10}
            fill={laneColour(place)}
            opacity={0.75}
          />
        )}
      </svg>
    </div>
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
