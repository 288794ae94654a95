/** The lanes board: a row a lane, a column a measure, one shared axis a column. */
import { max } from "d3-array";
import { scaleLinear, scaleLog } from "d3-scale";
import { useState } from "react";
import type { Comparison, LaneFindings } from "../api/client";
import { BANDS, Bands, type Scale, TimeTicks, timeScale } from "../plot/time";
import { bytes, figures, plural, seconds, times, trimmed } from "../ui/units";
import { useWidth } from "../ui/useWidth";
import { Glyph, glyphPath, laneColour } from "./mark";
import { verdictWord } from "./words";

type SortKey = "elapsed" | "ratio" | "cpu" | "memory" | "lines" | "file";

type Props = {
  comparison: Comparison;
  lanes: LaneFindings[];
  ranking: string[];
  chosen: string | null;
  onOpen: (lane: string) => void;
};

const ROW = 50;
const LOW_ROW = 42;
const MANY_LANES = 7;
const FIXED = { name: 138, ratio: 138, cpu: 112, memory: 94, stages: 126, lines: 44, answer: 92 };

const cpuOf = (lane: LaneFindings) => lane.cpu_total?.median ?? 0;

const VALUE: Record<SortKey, (lane: LaneFindings) => number> = {
  elapsed: (lane) => lane.elapsed?.median ?? Infinity,
  ratio: (lane) => -(lane.ratio?.value ?? 0),
  cpu: (lane) => lane.cpu_total?.median ?? Infinity,
  memory: (lane) => lane.peak_memory?.median ?? Infinity,
  lines: (lane) => lane.code_lines,
  file: () => 0,
};

export function Board({ comparison, lanes, ranking, chosen, onOpen }: Props) {
  const [ref, total] = useWidth<HTMLDivElement>(1000);
  const [sort, setSort] = useState<SortKey>("elapsed");
  const width = Math.max(220, total - Object.values(FIXED).reduce((a, b) => a + b, 0) - 2);
  const ordered =
    sort === "elapsed"
      ? [...lanes].sort((a, b) => ranking.indexOf(a.id) - ranking.indexOf(b.id))
      : [...lanes].sort((a, b) => VALUE[sort](a) - VALUE[sort](b));
  const target = comparison.targets.elapsed;
  const row = lanes.length > MANY_LANES ? LOW_ROW : ROW;
  const times = lanes.flatMap((lane) =>
    lane.runs.flatMap((run) => (run.state === "done" ? run.elapsed_s : run.at_least_s) ?? []),
  );
  const scale = timeScale([...times, ...(target ? [target] : [])], width, 12);
  const heading = (key: SortKey, text: string, note = "") => (
    <button
      className={`text heading ${sort === key ? "here" : ""}`}
      onClick={() => setSort(key)}
      aria-pressed={sort === key}
      title={`Order by ${text}`}
    >
      {text} <span className="faint">{note}</span>
    </button>
  );
  const shared = { lanes, scale, width, target, row };
  return (
    <div ref={ref} className="board" role="table" aria-label="Lanes side by side">
      <div
        className="board-grid"
        style={{
          gridTemplateColumns: `${FIXED.name}px ${width}px ${FIXED.ratio}px ${FIXED.cpu}px ${FIXED.memory}px ${FIXED.stages}px ${FIXED.lines}px ${FIXED.answer}px`,
        }}
      >
        <div className="board-row heads" role="row">
          <span role="columnheader">{heading("file", "lane")}</span>
          <span role="columnheader">
            {heading("elapsed", "elapsed", "median, interval, every run")}
          </span>
          <span role="columnheader">{heading("ratio", "times faster")}</span>
          <span role="columnheader">{heading("cpu", "CPU time")}</span>
          <span role="columnheader">{heading("memory", "peak memory")}</span>
          <span role="columnheader">
            <span className="heading">stages</span>
          </span>
          <span role="columnheader">{heading("lines", "lines")}</span>
          <span role="columnheader">
            <span className="heading">answer</span>
          </span>
        </div>
        {ordered.map((lane) => (
          <LaneRow
            key={lane.id}
            lane={lane}
            place={comparison.marks[lane.id] ?? 0}
            chosen={chosen === lane.id}
            onOpen={() => onOpen(lane.id)}
            memoryTarget={comparison.targets.memory}
            {...shared}
          />
        ))}
        <div className="board-row foot" aria-hidden="true">
          <span />
          <Foot scale={scale} width={width} target={target} />
        </div>
      </div>
    </div>
  );
}

/** Below the rows: the axis, what the bands of patience mean, and the target. */
function Foot({ scale, width, target }: { scale: Scale; width: number; target: number | null }) {
  const [low = 0, high = 1] = scale.domain();
  return (
    <svg width={width} height={34}>
      <TimeTicks scale={scale} y={0} />
      {BANDS.map((band, i) => {
        const from = Math.max(low, BANDS[i - 1]?.until ?? 0);
        const until = Math.min(high, band.until);
        const room = from < until ? scale(until) - scale(from) : 0;
        const at = (scale(from) + scale(until)) / 2;
        const hidden =
          target !== null && Math.abs(scale(target) - at) < 3.1 * band.word.length + 44;
        return room > band.word.length * 5.6 && !hidden ? (
          <text key={band.word} className="foot-word" x={at} y={30}>
            {band.word}
          </text>
        ) : null;
      })}
      {target !== null && (
        <text
          className="foot-word target"
          x={Math.min(width - 34, Math.max(34, scale(target)))}
          y={30}
        >
          target {trimmed(seconds(target))}
        </text>
      )}
    </svg>
  );
}

type RowProps = {
  lane: LaneFindings;
  lanes: LaneFindings[];
  place: number;
  scale: Scale;
  width: number;
  row: number;
  target: number | null;
  memoryTarget: number | null;
  chosen: boolean;
  onOpen: () => void;
};

function LaneRow(props: RowProps) {
  const { lane, lanes, place, chosen, onOpen } = props;
  const agreement = lane.agreement;
  return (
    <div
      className={`board-row lane ${chosen ? "chosen" : ""}`}
      style={{ height: props.row + 1 }}
      role="row"
      data-testid={`board-${lane.id}`}
      onClick={onOpen}
    >
      <span role="rowheader" className="lane-name">
        <Glyph place={place} size={16} />
        <button className="text" title={lane.name} onClick={onOpen}>
          {lane.name}
        </button>
      </span>
      <span role="cell">
        <Elapsed {...props} />
      </span>
      <span role="cell">
        <RatioCell lane={lane} lanes={lanes} place={place} />
      </span>
      <span role="cell">
        <CpuCell lane={lane} lanes={lanes} place={place} />
      </span>
      <span role="cell">
        <MemoryCell {...props} />
      </span>
      <span role="cell">
        <Stages lane={lane} lanes={lanes} place={place} />
      </span>
      <span role="cell" className="number">
        {lane.code_lines}
      </span>
      <span role="cell" className={`answer ${agreement && !agreement.agrees ? "bad" : ""}`}>
        {agreement ? verdictWord(agreement) : "–"}
        <span className="small faint">
          {lane.answer_rows !== null && plural(lane.answer_rows, "row")}
        </span>
      </span>
    </div>
  );
}

function Elapsed({ lane, place, scale, width, target, row }: RowProps) {
  const middle = row - 17;
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
    <svg width={width} height={row} role="img" aria-label={`${lane.name}: ${label}`}>
      <Bands scale={scale} height={row} />
      {target && (
        <line
          x1={scale(target)}
          x2={scale(target)}
          y2={row}
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

type CellProps = { lane: LaneFindings; lanes: LaneFindings[]; place: number };

function RatioCell({ lane, lanes, place }: CellProps) {
  const w = FIXED.ratio - 14;
  const ratio = lane.ratio;
  if (!ratio) return <span className="faint">–</span>;
  if (lane.baseline) return <span className="faint baseline-word">baseline</span>;
  const all = lanes.flatMap((l) => [l.ratio?.low, l.ratio?.high, l.ratio?.value]);
  const known = all.filter((v): v is number => v != null && v > 0);
  const scale = scaleLog([Math.min(0.8, ...known), Math.max(1.25, ...known)], [4, w - 4]).clamp(
    true,
  );
  const unsure = ratio.verdict === "cannot tell apart";
  return (
    <div className="ratio-cell">
      <div className="ratio-words">
        {unsure ? (
          <span className="quiet small">cannot tell apart</span>
        ) : (
          <>
            {ratio.bound && <span className="small quiet">{ratio.bound} </span>}
            <strong data-testid="ratio">{times(ratio.value)}</strong>
            {ratio.low !== null && ratio.high !== null && (
              <span className="small faint">
                {" "}
                {times(ratio.low, 2)} to {times(ratio.high, 2)}
              </span>
            )}
          </>
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

function CpuCell({ lane, lanes, place }: CellProps) {
  const w = FIXED.cpu - 14;
  if (!lane.cpu_user || !lane.cpu_system || !lane.cpu_total) {
    return <span className="faint">–</span>;
  }
  const scale = scaleLinear([0, max(lanes, cpuOf) || 1], [0, w]);
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

function MemoryCell({ lane, lanes, place, memoryTarget }: RowProps) {
  const w = FIXED.memory - 14;
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

function Stages({ lane, lanes, place }: CellProps) {
  const w = FIXED.stages - 14;
  const longest = max(lanes, (l) => l.elapsed?.median ?? 0) || 1;
  const scale = scaleLinear([0, longest], [0, w]);
  const widths = lane.stages.map((stage) => scale(stage.elapsed_s));
  const starts = widths.map((_, i) => widths.slice(0, i).reduce((sum, x) => sum + x, 0));
  const biggest = [...lane.stages].sort((a, b) => b.elapsed_s - a.elapsed_s)[0];
  if (!biggest) return <span className="faint">–</span>;
  const all = lane.stages.reduce((sum, stage) => sum + stage.elapsed_s, 0);
  return (
    <div
      title={lane.stages
        .map((stage) => `${stage.name ?? "outside stages"}: ${seconds(stage.elapsed_s)}`)
        .join("\n")}
    >
      <div className="figure cut small">
        {biggest.name === null && lane.stages.length === 1
          ? "no stages named"
          : `${biggest.name ?? "outside stages"} ${figures((100 * biggest.elapsed_s) / (all || 1), 2)} %`}
      </div>
      <svg width={w} height={10} role="img" aria-label={`Stages of ${lane.name}`}>
        {lane.stages.map((stage, i) => (
          <rect
            key={stage.name ?? ""}
            x={starts[i]}
            width={Math.max(0.8, widths[i] ?? 0)}
            height={10}
            fill={stage.name === null ? "var(--line)" : laneColour(place)}
            opacity={stage.name === null ? 1 : SHADES[i % SHADES.length]}
          />
        ))}
      </svg>
    </div>
  );
}
