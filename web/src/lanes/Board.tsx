/** The lanes board: a row a lane, a column a measure, one shared axis a column. */
import { useEffect, useRef, useState } from "react";
import type { BoardColumn, Comparison, Findings, LaneFindings } from "../api/client";
import { BANDS, linearTimeScale, type Scale, TimeTicks, timeScale } from "../plot/time";
import { seconds, trimmed } from "../ui/units";
import { useWidth } from "../ui/useWidth";
import { BarCell, Elapsed, RatioCell, type RowProps, WordsCell } from "./cells";
import { type Column, shownColumns, widthWithin } from "./columns";
import { Glyph } from "./mark";

type Props = {
  comparison: Comparison;
  findings: Findings;
  /** Findings of another trial, drawn as a pale shadow. */
  under?: Findings | undefined;
  lanes: LaneFindings[];
  columns: BoardColumn[];
  chosen: string | null;
  onOpen: (lane: string) => void;
  onWidth: (key: string, width: number) => void;
};

const ROW = 50;
const LOW_ROW = 42;
const MANY_LANES = 7;
const NAME = 138;
const STEP = 12;

/** What a column is ordered by, the smallest first; lanes without it come last. */
function valueOf(column: Column, lane: LaneFindings): number {
  if (column.key === "ratio") return -(lane.ratio?.value ?? -Infinity);
  const row = column.row?.lanes[lane.id];
  if (!row) return Infinity;
  return column.row?.better === "higher" ? -row.median : row.median;
}

export function Board(props: Props) {
  const { comparison, findings, lanes, chosen, onOpen, onWidth } = props;
  const [ref, total] = useWidth<HTMLDivElement>(1000);
  const [sort, setSort] = useState("elapsed");
  const columns = shownColumns(findings, props.columns);
  const fixed = columns.reduce((sum, column) => sum + (column.grows ? 0 : column.width), NAME);
  const growing = columns.filter((column) => column.grows).length;
  const room = Math.max(220, (total - fixed - 2) / Math.max(1, growing));
  const widths = columns.map((column) => (column.grows ? room : column.width));
  const ranking = (lane: LaneFindings) => findings.ranking.indexOf(lane.id);
  const by = columns.find((column) => column.key === sort);
  const ordered =
    sort === "file"
      ? lanes
      : [...lanes].sort((a, b) =>
          by && sort !== "elapsed" ? valueOf(by, a) - valueOf(by, b) : ranking(a) - ranking(b),
        );
  const target = comparison.targets.elapsed;
  const height = lanes.length > MANY_LANES ? LOW_ROW : ROW;
  const shadows = new Map(props.under?.lanes.map((lane) => [lane.id, lane]));
  const under = lanes.flatMap((lane) => shadows.get(lane.id) ?? []);
  const times = [...lanes, ...under].flatMap((lane) =>
    lane.runs.flatMap((run) => (run.state === "done" ? run.elapsed_s : run.at_least_s) ?? []),
  );
  const drawn = columns.findIndex((column) => column.key === "elapsed");
  const width = widths[drawn] ?? room;
  const make = columns[drawn]?.log === false ? linearTimeScale : timeScale;
  const scale = make([...times, ...(target ? [target] : [])], width, 12);
  const heading = (key: string, text: string, note = "", how = "") => (
    <button
      className={`text heading ${sort === key ? "here" : ""}`}
      onClick={() => setSort(key)}
      aria-pressed={sort === key}
      title={`Order by ${text}. ${how}`}
    >
      {text} <span className="faint">{note}</span>
    </button>
  );
  return (
    <div ref={ref} className="board" role="table" aria-label="Lanes side by side">
      <div
        className="board-grid"
        style={{ gridTemplateColumns: `${NAME}px ${widths.map((w) => `${w}px`).join(" ")}` }}
      >
        <div className="board-row heads" role="row">
          <span role="columnheader">{heading("file", "lane")}</span>
          {columns.map((column, i) => (
            <span
              role="columnheader"
              key={column.key}
              data-testid={`head-${column.key}`}
              className={column.grows ? "wide" : ""}
            >
              {column.row || column.key === "ratio" || column.key === "elapsed" ? (
                heading(column.key, column.label, column.note, column.how)
              ) : (
                <span className="heading">{column.label}</span>
              )}
              <Edge
                label={column.label}
                width={widths[i] ?? column.width}
                onWidth={(next) => onWidth(column.key, widthWithin(next))}
              />
            </span>
          ))}
        </div>
        {ordered.map((lane) => (
          <LaneRow
            key={lane.id}
            lane={lane}
            lanes={lanes}
            shadow={shadows.get(lane.id)}
            place={comparison.marks[lane.id] ?? 0}
            chosen={chosen === lane.id}
            onOpen={() => onOpen(lane.id)}
            columns={columns}
            board={findings.board}
            widths={widths}
            scale={scale}
            height={height}
            target={target}
            memoryTarget={comparison.targets.memory}
          />
        ))}
        {drawn >= 0 && (
          <div className="board-row foot" aria-hidden="true">
            <span style={{ gridColumn: `${drawn + 2}` }}>
              <Foot scale={scale} width={width} target={target} />
            </span>
          </div>
        )}
      </div>
    </div>
  );
}

/** The right edge of a heading: dragged, or moved by arrow keys, it sets the column's width. */
function Edge(props: { label: string; width: number; onWidth: (width: number) => void }) {
  const { label, width, onWidth } = props;
  // Keys come quicker than a new width is drawn.
  const wanted = useRef(width);
  useEffect(() => {
    wanted.current = width;
  }, [width]);
  const step = (by: number) => {
    wanted.current += by;
    onWidth(wanted.current);
  };
  const begin = (event: React.PointerEvent<HTMLSpanElement>) => {
    const from = event.clientX;
    const edge = event.currentTarget;
    edge.setPointerCapture(event.pointerId);
    const end = (last: PointerEvent) => {
      edge.removeEventListener("pointerup", end);
      if (Math.abs(last.clientX - from) > 2) onWidth(width + last.clientX - from);
    };
    edge.addEventListener("pointerup", end);
  };
  return (
    <span
      className="edge"
      role="separator"
      tabIndex={0}
      aria-orientation="vertical"
      aria-label={`Width of ${label}`}
      aria-valuenow={Math.round(width)}
      onPointerDown={begin}
      onKeyDown={(event) => {
        if (event.key === "ArrowRight") step(STEP);
        if (event.key === "ArrowLeft") step(-STEP);
      }}
    />
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

type LaneRowProps = RowProps & {
  columns: Column[];
  board: Findings["board"];
  widths: number[];
  chosen: boolean;
  onOpen: () => void;
};

function LaneRow({ columns, board, widths, chosen, onOpen, ...row }: LaneRowProps) {
  const { lane, place, height } = row;
  return (
    <div
      className={`board-row lane ${chosen ? "chosen" : ""}`}
      style={{ height: height + 1 }}
      role="row"
      data-testid={`board-${lane.id}`}
      onClick={onOpen}
    >
      <span role="rowheader" className="lane-name">
        <Glyph place={place} size={16} />
        <button className="text" title={lane.name} onClick={onOpen}>
          {lane.name}
        </button>
        {lane.placement && (
          <span className="small faint placement" data-testid={`placement-${lane.id}`}>
            {lane.placement.words}
          </span>
        )}
      </span>
      {columns.map((column, i) => (
        <span role="cell" key={column.key} className={column.key === "elapsed" ? "drawn" : ""}>
          <DrawnCell column={column} width={widths[i] ?? column.width} board={board} {...row} />
        </span>
      ))}
    </div>
  );
}

function DrawnCell({
  column,
  width,
  board,
  ...row
}: RowProps & { column: Column; width: number; board: Findings["board"] }) {
  const props = { ...row, width, log: column.log };
  if (column.drawing === "runs") return <Elapsed {...props} />;
  if (column.drawing === "interval") return <RatioCell {...props} />;
  const cells = board.rows.flatMap((one) => one.cells[column.key] ?? []);
  const cell = board.rows.find((one) => one.lane === row.lane.id)?.cells[column.key];
  if (!cell) return <span className="faint">–</span>;
  if (column.drawing === "words") return <WordsCell cell={cell} />;
  const target = column.key === "peak_memory" ? row.memoryTarget : null;
  return <BarCell {...props} cell={cell} cells={cells} target={target} />;
}
