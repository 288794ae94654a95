/** Two lanes held against each other: what differs in figures, in time by stages, and in code. */
import { PushpinOutlined, SwapOutlined } from "@ant-design/icons";
import { Button, Select } from "antd";
import { useState } from "react";
import type {
  Claim,
  Comparison,
  Findings,
  Lane,
  PairFindings,
  Ratio,
  Trial,
} from "../../api/client";
import { usePair, useRun } from "../../api/queries";
import { aboutRatio, isApart, toldRatio } from "../../lanes/ratio";
import { lineMarks } from "../../lanes/hot";
import { Glyph, laneColour } from "../../lanes/mark";
import { verdictWord } from "../../lanes/words";
import { RunCurve } from "../../plot/RunCurve";
import type { LineMark } from "../../ui/CodeEditor";
import { Copy, withConditions } from "../../ui/Copy";
import { Figure } from "../../ui/Figure";
import { underWay } from "../../ui/job";
import { inUnit } from "../../ui/measureWords";
import { Opening } from "../../ui/Opening";
import { Trouble } from "../../ui/Trouble";
import { figures, plural, seconds } from "../../ui/units";
import { useWidth } from "../../ui/useWidth";
import type { View } from "../../ui/view";
import { ExplainedPanel } from "../approaches/ExplainedPanel";
import { EVERY_ROW, useStart, useTry } from "../approaches/TryPanel";
import { Pin, type Pinnable } from "./Claims";
import { alike, claim as claimed, whereFound } from "./claims";
import { Notes, useRemarks } from "./Remarks";

type Props = {
  comparison: Comparison;
  trial: Trial;
  findings: Findings;
  /** Findings of the trial that lies under this one. */
  under: Findings | undefined;
  base: string;
  lane: string;
  view: View;
};

export default function PairView(props: Props) {
  const { comparison, trial, findings, under, base, lane, view } = props;
  const pair = usePair(trial.id, view.point, base, lane);
  const options = findings.lanes.map((one) => ({ value: one.id, label: one.name }));
  const place = (id: string) => comparison.marks[id] ?? 0;
  const choose = (label: string, value: string, other: string, part: "base" | "lane") => (
    <span className="row">
      <Glyph place={place(value)} size={16} />
      <Select
        size="small"
        variant="underlined"
        aria-label={label}
        popupMatchSelectWidth={false}
        value={value}
        options={options.filter((option) => option.value !== other)}
        onChange={(id: string) => view.set({ [part]: id })}
      />
    </span>
  );
  return (
    <div className="pair" data-testid="pair">
      <div className="row pair-head">
        {choose("Lane in view", lane, base, "lane")}
        <span className="quiet">against</span>
        {choose("Compared with", base, lane, "base")}
        <Button
          size="small"
          type="text"
          icon={<SwapOutlined />}
          aria-label="The other way round"
          onClick={() => view.set({ base: lane, lane: base })}
        />
      </div>
      <Trouble error={pair.error} />
      {under && <PairThen trial={under.trial} base={base} lane={lane} point={view.point} />}
      {pair.isPending && <Opening what="the pair" />}
      {pair.data && (
        <Found comparison={comparison} trial={trial} findings={findings} pair={pair.data} />
      )}
    </div>
  );
}

/** The same two in the trial that lies under the one in view. */
function PairThen(props: { trial: number; base: string; lane: string; point: string | null }) {
  const { trial, base, lane, point } = props;
  const pair = usePair(trial, point, base, lane);
  if (!pair.data) return null;
  return (
    <p className="small quiet then" data-testid="pair-then">
      In trial {trial}: {pair.data.words[0]}
    </p>
  );
}

type FoundProps = { comparison: Comparison; trial: Trial; findings: Findings; pair: PairFindings };

function Found({ comparison, trial, findings, pair }: FoundProps) {
  const place = (id: string) => comparison.marks[id] ?? 0;
  const marks = { base: place(pair.base), lane: place(pair.lane) };
  const elapsed = pair.measures.find((row) => row.key === OF_TIME);
  const claim = claimOf(pair, findings, elapsed);
  return (
    <>
      <p className="conclusion" data-testid="pair-words">
        {pair.words.join(" ")}{" "}
        <Copy what="finding" text={withConditions(pair.words.join(" "), findings.conditions)} />
      </p>
      <div className="row">
        {claim && <Pin comparison={comparison} found={claim} />}
        <Agreed pair={pair} />
      </div>
      <div className="pair-grid">
        <section>
          <h3>Where the time goes</h3>
          <StagePairs pair={pair} marks={marks} />
          <h3>How the run nearest to the median went</h3>
          <Curves trial={trial} pair={pair} marks={marks} />
        </section>
        <section>
          <h3>Every measure</h3>
          <MeasurePairs comparison={comparison} findings={findings} pair={pair} marks={marks} />
        </section>
      </div>
      <section>
        <h3>
          The code <span className="faint small">{plural(pair.lines_changed, "line")} changed</span>
        </h3>
        <Code comparison={comparison} trial={trial} pair={pair} />
      </section>
      <Plans comparison={comparison} pair={pair} />
      <h3>Notes on this pair</h3>
      <Notes comparison={comparison} subject={{ pair: [pair.base, pair.lane] }} />
    </>
  );
}

type Row = PairFindings["measures"][number];

const OF_TIME = "elapsed";

/** A measure of the pair as a claim; none where nothing is told apart. */
function claimOf(pair: PairFindings, findings: Findings, row: Row | undefined): Pinnable | null {
  const ratio = row?.key === OF_TIME ? pair.ratio : (row?.ratio ?? null);
  if (!row || !ratio || !isApart(ratio)) return null;
  const less = ratio.value > 1;
  const [lower, higher] = less ? [pair.lane, pair.base] : [pair.base, pair.lane];
  const [few, many] = less ? [pair.lane_name, pair.base_name] : [pair.base_name, pair.lane_name];
  const factor = less ? ratio.value : 1 / ratio.value;
  const turned = (bound: number | null) => bound && 1 / bound;
  const of = row.key === OF_TIME;
  const say = (what: string) =>
    of ? `${few} is ${what} than ${many}` : `${few} takes ${what} ${row.label} than ${many}`;
  return {
    say,
    less: of ? "faster" : "less",
    interval: less
      ? { low: ratio.low, high: ratio.high }
      : { low: turned(ratio.high), high: turned(ratio.low) },
    claim: claimed({
      text: say(`${figures(factor)} times ${of ? "faster" : "less"}`),
      lower,
      higher,
      measure: row.key,
      factor,
      ...whereFound(findings),
    }),
  };
}

function Agreed({ pair }: { pair: PairFindings }) {
  const found = pair.agreement;
  if (!found) {
    return (
      <span className="small faint">
        The two answers were not compared with each other: one gave none, or they are too large.
      </span>
    );
  }
  return (
    <span className={`small ${found.agrees ? "quiet" : "bad"}`} data-testid="pair-agreement">
      {found.agrees
        ? `Both give the same answer (${verdictWord({ verdict: found.verdict })}, ${plural(found.rows ?? 0, "row")}).`
        : `Their answers differ: ${found.reasons.join("; ")}.`}
    </span>
  );
}

type Marks = { base: number; lane: number };
type Part = { pair: PairFindings; marks: Marks };

function StagePairs({ pair, marks }: Part) {
  const [ref, width] = useWidth<HTMLDivElement>(460);
  const most = Math.max(...pair.stages.map((s) => Math.max(s.base_s ?? 0, s.lane_s ?? 0)), 1e-9);
  if (!pair.stages.length) {
    return (
      <p className="small quiet">
        Neither names stages. With “with stage("…"):” in both, the gain is told part by part.
      </p>
    );
  }
  const left = 132;
  const bar = (value: number) => ((width - left - 70) * value) / most;
  const row = 46;
  return (
    <div ref={ref}>
      <Figure
        title={`Stages of ${pair.lane_name} against ${pair.base_name}`}
        head={["stage", `${pair.base_name} (s)`, `${pair.lane_name} (s)`]}
        rows={pair.stages.map((s) => [s.name ?? "outside all stages", s.base_s, s.lane_s])}
      >
        <svg width={width} height={row * pair.stages.length} role="img" aria-label="Stages of both">
          {pair.stages.map((stage, i) => {
            const unmatched = stage.base_s === null || stage.lane_s === null;
            return (
              <g key={stage.name ?? ""} transform={`translate(0,${i * row})`}>
                <text className="stage-name" x={0} y={18}>
                  {stage.name ?? "outside all stages"}
                </text>
                {unmatched && (
                  <text className="axis-word" x={0} y={33}>
                    unmatched
                  </text>
                )}
                {[stage.base_s, stage.lane_s].map((value, j) => {
                  if (value === null) return null;
                  const mark = j === 0 ? marks.base : marks.lane;
                  return (
                    <g key={j} transform={`translate(${left},${6 + j * 17})`}>
                      <rect width={Math.max(1, bar(value))} height={13} fill={laneColour(mark)} />
                      <text className="axis-word" x={bar(value) + 6} y={11}>
                        {seconds(value)}
                      </text>
                    </g>
                  );
                })}
              </g>
            );
          })}
        </svg>
      </Figure>
    </div>
  );
}

function Curves({ trial, pair, marks }: Part & { trial: Trial }) {
  const [ref, width] = useWidth<HTMLDivElement>(460);
  const base = useRun(trial.id, pair.base_run).data;
  const lane = useRun(trial.id, pair.lane_run).data;
  const samples = (run: typeof base) =>
    (run?.curve ?? []).map((sample) => ({
      t: sample.t_s,
      cpu: sample.cpu_s,
      memory: sample.memory_bytes - (run?.start_memory_bytes ?? sample.memory_bytes),
    }));
  const [of, against] = [samples(lane), samples(base)];
  const [drawn, shadow, mark, name] =
    of.length > 1
      ? [of, against, marks.lane, pair.lane_name]
      : [against, of, marks.base, pair.base_name];
  if (drawn.length < 2) {
    return <p className="small faint">Both are too short for a curve: samples are 25 ms apart.</p>;
  }
  const known = [base, lane].every((run) => run?.start_memory_bytes != null);
  // From an unknown start nothing is known of what was held above it.
  const told = (name: string, run: typeof base, taken: typeof of) =>
    taken.map((s) => [name, s.t, s.cpu, run?.start_memory_bytes == null ? null : s.memory]);
  const rows = [...told(pair.base_name, base, against), ...told(pair.lane_name, lane, of)];
  return (
    <div ref={ref}>
      <Figure
        title={`Curves of ${pair.lane_name} over ${pair.base_name}`}
        head={["lane", "seconds", "CPU seconds so far", "bytes above the start"]}
        rows={rows}
      >
        <RunCurve
          curve={drawn}
          shadow={shadow}
          colour={laneColour(mark)}
          width={width}
          height={150}
          withMemory={known && !lane?.several_processes && !base?.several_processes}
        />
      </Figure>
      <p className="small faint">
        In colour {name}, behind it in grey{" "}
        {name === pair.lane_name ? pair.base_name : pair.lane_name}.
      </p>
    </div>
  );
}

type MeasureProps = Part & { comparison: Comparison; findings: Findings };

function MeasurePairs({ comparison, findings, pair, marks }: MeasureProps) {
  const put = useRemarks(comparison);
  const pinned = (claim: Claim) => comparison.claims.some((one) => alike(one, claim));
  const pinOf = (row: Row) => {
    const claim = claimOf(pair, findings, row)?.claim;
    if (!claim || row.key === OF_TIME || pinned(claim)) return null;
    return (
      <Button
        size="small"
        type="text"
        icon={<PushpinOutlined />}
        aria-label={`Pin as a claim: ${row.label}`}
        onClick={() => put.claims([...comparison.claims, claim])}
      />
    );
  };
  return (
    <div className="measures-scroll" tabIndex={0} role="region" aria-label="Measures of both">
      <table className="plain">
        <thead>
          <tr>
            <th>measure</th>
            <th className="number">
              <Glyph place={marks.base} size={12} /> {pair.base_name}
            </th>
            <th className="number">
              <Glyph place={marks.lane} size={12} /> {pair.lane_name}
            </th>
            <th>compared</th>
            <th />
          </tr>
        </thead>
        <tbody>
          {pair.measures
            .filter((row) => row.base.median !== 0 || row.lane.median !== 0)
            .map((row) => (
              <tr key={row.key} data-testid={`pair-${row.key}`}>
                <td>{row.label}</td>
                <td className="number">{inUnit(row.unit, row.base.median)}</td>
                <td className="number">{inUnit(row.unit, row.lane.median)}</td>
                <td>
                  <Compared ratio={row.ratio} />
                </td>
                <td>{pinOf(row)}</td>
              </tr>
            ))}
        </tbody>
      </table>
    </div>
  );
}

/** A ratio in words with its interval, or why there is none. */
function Compared({ ratio }: { ratio: Ratio | null }) {
  if (!ratio) return <span className="small faint">one is nought</span>;
  const told = toldRatio(ratio);
  return (
    <span title={aboutRatio(ratio)}>
      {told.factor ? (
        <strong>{`${told.factor} ${told.verdict}`}</strong>
      ) : (
        <span className="small quiet">{told.verdict}</span>
      )}
      {told.span && " "}
      {told.span && <span className="small faint nowrap">{told.span}</span>}
    </span>
  );
}

const NEAR = 3;

/** What the lines of a lane took the last time somebody looked, where they are those of the trial. */
function useMarks(comparison: Comparison, trial: Trial, lane: string) {
  const hot = useTry(comparison.id, lane).data?.hot;
  const now = comparison.lanes.find((one) => one.id === lane)?.code;
  const alike = hot?.of_now === true && now === trial.lanes[lane];
  const start = useStart(comparison.id, lane, () => Promise.resolve());
  return {
    marks: alike ? lineMarks(hot.found) : [],
    running: start.isPending || underWay(hot?.state),
    error: start.error,
    look: () => start.mutate({ rows: EVERY_ROW, kind: "hot" }),
  };
}

function Share({ marks, line }: { marks: LineMark[]; line: number | null }) {
  const mark = line === null ? undefined : marks.find((one) => one.line === line);
  if (!mark || mark.share < 0.005) return <td className="took" />;
  return (
    <td className="took" title={mark.words}>
      <i style={{ width: `${Math.round(30 * mark.share)}px` }} />
      {(100 * mark.share).toFixed(0)} %
    </td>
  );
}

type CodeProps = { comparison: Comparison; trial: Trial; pair: PairFindings };

/** The difference of the two codes; long stretches that are the same are folded. */
function Code({ comparison, trial, pair }: CodeProps) {
  const [whole, setWhole] = useState(false);
  const base = useMarks(comparison, trial, pair.base);
  const lane = useMarks(comparison, trial, pair.lane);
  const told = base.marks.length + lane.marks.length > 0;
  const changed = pair.code.map((line) => line.kind !== "same");
  const near = (i: number) =>
    changed.slice(Math.max(0, i - NEAR), i + NEAR + 1).some(Boolean) || whole;
  const shown = pair.code.map((line, i) => ({ line, i })).filter(({ i }) => near(i));
  const folded = pair.code.length - shown.length;
  return (
    <>
      <p className="small quiet">
        {told
          ? "Beside the lines: their share of the lane’s time, in a run of its own. "
          : "Where did the gain come from? "}
        <Button
          size="small"
          type="link"
          data-testid="pair-hot"
          loading={base.running || lane.running}
          onClick={() => {
            base.look();
            lane.look();
          }}
        >
          {told ? "Look again" : "Find the hot lines of both"}
        </Button>
      </p>
      <Trouble error={base.error ?? lane.error} />
      <div className="code-diff" tabIndex={0} role="region" aria-label="Difference of the code">
        <table>
          <tbody>
            {shown.map(({ line, i }) => (
              <tr key={i} className={line.kind}>
                {told && <Share marks={base.marks} line={line.base_line} />}
                <td className="line-number">{line.base_line ?? ""}</td>
                {told && <Share marks={lane.marks} line={line.lane_line} />}
                <td className="line-number">{line.lane_line ?? ""}</td>
                <td className="sign" aria-label={line.kind}>
                  {line.kind === "added" ? "+" : line.kind === "removed" ? "−" : ""}
                </td>
                <td>
                  <pre>{line.text || " "}</pre>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {(folded > 0 || whole) && (
        <Button size="small" type="link" onClick={() => setWhole(!whole)}>
          {whole ? "Only what differs" : `Show ${plural(folded, "more line")} that both have`}
        </Button>
      )}
    </>
  );
}

/** The engines' own accounts side by side, asked for when wanted. */
function Plans({ comparison, pair }: { comparison: Comparison; pair: PairFindings }) {
  const [open, setOpen] = useState(false);
  const [rows, setRows] = useState(1000);
  const lanes = [pair.base, pair.lane]
    .map((id) => comparison.lanes.find((lane) => lane.id === id))
    .filter((lane): lane is Lane => lane?.explains === true);
  if (!lanes.length) return null;
  return (
    <section>
      <h3>
        <Button size="small" type="link" aria-expanded={open} onClick={() => setOpen(!open)}>
          {open ? "Hide how the engines carry them out" : "How the engines carry them out"}
        </Button>
      </h3>
      {open && (
        <div className="pair-grid">
          {lanes.map((lane) => (
            <section key={lane.id} aria-label={`How ${lane.name} is carried out`}>
              <h4>
                <Glyph place={comparison.marks[lane.id] ?? 0} size={13} /> {lane.name}
              </h4>
              <ExplainedPanel
                comparison={comparison.id}
                lane={lane}
                rows={rows}
                onRows={setRows}
                beforeTry={() => Promise.resolve()}
              />
            </section>
          ))}
        </div>
      )}
    </section>
  );
}
