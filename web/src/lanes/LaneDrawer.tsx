/** A lane opened: its runs in order, one run's curves and stages, what it printed, the code. */
import { Drawer } from "antd";
import { scaleLinear } from "d3-scale";
import { Link } from "react-router";
import type { Comparison, Dot, LaneFindings, Run, Trial } from "../api/client";
import { useRun } from "../api/queries";
import { Figure } from "../ui/Figure";
import type { View } from "../ui/view";
import { RunCurve } from "../plot/RunCurve";
import { CodeEditor, type Language } from "../ui/editors";
import { bytes, count, counted, figures, plural, seconds } from "../ui/units";
import { Glyph, laneColour } from "./mark";

type Props = {
  comparison: Comparison;
  trial: Trial;
  lane: LaneFindings;
  view: View;
  /** What else stands in it, beneath the code. */
  more?: React.ReactNode;
};

const WIDTH = 620;

export function LaneDrawer({ comparison, trial, lane, view, more }: Props) {
  const place = comparison.marks[lane.id] ?? 0;
  const middle = [...lane.runs]
    .filter((run) => run.counted)
    .sort((a, b) => (a.elapsed_s ?? 0) - (b.elapsed_s ?? 0));
  const usual = middle[Math.floor(middle.length / 2)] ?? lane.runs[lane.runs.length - 1];
  const known =
    view.run !== null && [...lane.runs.map((run) => run.run), lane.memory_run].includes(view.run);
  const number = known ? view.run : (usual?.run ?? null);
  const { data: run } = useRun(trial.id, number);
  return (
    <Drawer
      open
      mask={false}
      size={WIDTH + 60}
      onClose={() => view.set({ lane: null, run: null })}
      title={
        <span className="row">
          <Glyph place={place} size={18} /> {lane.name}
        </span>
      }
    >
      <div className="lane-drawer">
        {lane.trouble && <div className="trouble">{lane.trouble}</div>}
        <section>
          <h3>Runs in order</h3>
          <Figure
            title={`Runs of ${lane.name} in order`}
            head={["run", "round", "kind", "state", "elapsed (s)"]}
            rows={lane.runs.map((dot) => [
              dot.run,
              dot.round,
              dot.warm_up ? "warm-up" : dot.set_aside ? "done again" : "counted",
              dot.state,
              dot.elapsed_s ?? dot.at_least_s,
            ])}
          >
            <RunsInOrder
              runs={lane.runs}
              chosen={number}
              colour={laneColour(place)}
              onChoose={(n) => view.set({ run: n })}
            />
          </Figure>
        </section>
        {lane.memory_run !== null && (
          <p className="small quiet">
            Its processes share memory, so peak memory comes from{" "}
            <button
              className="text"
              onClick={() => view.set({ run: lane.memory_run ?? undefined })}
            >
              a run of its own
            </button>
            : {lane.memory_method}.
          </p>
        )}
        {run && <OneRun run={run} colour={laneColour(place)} />}
        {run && (
          <section>
            <h3>The code that ran</h3>
            <div className="code-shown">
              <CodeEditor
                label={`Code of ${lane.name} in trial ${trial.id}`}
                value={run.code}
                wrong={run.error?.line ?? null}
                language={
                  (comparison.lanes.find((l) => l.id === lane.id)?.language ?? "sql") as Language
                }
              />
            </div>
            <Link to={`/comparisons/${comparison.id}/approaches?lane=${lane.id}`}>
              Open in Approaches
            </Link>
          </section>
        )}
        {more}
      </div>
    </Drawer>
  );
}

type RunsProps = {
  runs: Dot[];
  chosen: number | null;
  colour: string;
  onChoose: (run: number) => void;
};

function RunsInOrder({ runs, chosen, colour, onChoose }: RunsProps) {
  const height = 96;
  const known = runs.map((run) => run.elapsed_s ?? run.at_least_s ?? 0);
  const y = scaleLinear([0, Math.max(...known, 1e-9) * 1.08], [height - 18, 8]);
  const step = Math.min(60, (WIDTH - 70) / Math.max(1, runs.length));
  return (
    <svg width={WIDTH} height={height} role="group" aria-label="Runs in order">
      {y.ticks(3).map((t) => (
        <g key={t} className="axis">
          <line x1={58} x2={WIDTH} y1={y(t)} y2={y(t)} stroke="var(--line-2)" />
          <text x={52} y={y(t) + 4} textAnchor="end">
            {t ? seconds(t) : "0"}
          </text>
        </g>
      ))}
      {runs.map((run, i) => {
        const cx = 70 + i * step;
        const value = run.elapsed_s ?? run.at_least_s;
        const round = run.warm_up ? "warm-up" : `round ${run.round}`;
        const odd = run.disturbed ? `, disturbed by ${run.disturbed}` : "";
        const again = run.set_aside ? "; done again, not counted" : "";
        const told = `${round}: ${run.state === "done" ? seconds(value) : run.state}${odd}${again}`;
        return (
          <g
            key={run.run}
            role="button"
            tabIndex={0}
            aria-label={told}
            className="run-dot"
            onClick={() => onChoose(run.run)}
            onKeyDown={(event) => event.key === "Enter" && onChoose(run.run)}
          >
            <rect x={cx - step / 2} width={step} height={height} fill="transparent" />
            {run.run === chosen && (
              <line x1={cx} x2={cx} y1={4} y2={height - 18} stroke="var(--ink-3)" />
            )}
            {value != null && run.state === "done" ? (
              <circle
                cx={cx}
                cy={y(value)}
                r={4.2}
                fill={run.counted || run.set_aside ? colour : "var(--sheet)"}
                opacity={run.set_aside ? 0.28 : 1}
                stroke={colour}
                strokeWidth={1.5}
              />
            ) : (
              <path
                className="bad-mark"
                d={`M${cx - 5},${height / 2 - 9}l10,10m0,-10l-10,10`}
                fill="none"
                stroke="var(--bad)"
                strokeWidth={2}
              />
            )}
            <text className="axis-word" x={cx} y={height - 3} textAnchor="middle" aria-hidden>
              {run.warm_up ? "w" : run.round}
            </text>
            <title>{told}</title>
          </g>
        );
      })}
    </svg>
  );
}

function OneRun({ run, colour }: { run: Run; colour: string }) {
  const facts: [string, string][] = [
    ["elapsed", seconds(run.elapsed_s)],
    ["CPU user", seconds(run.cpu_user_s)],
    ["CPU system", seconds(run.cpu_system_s)],
    [
      "peak memory",
      run.peak_memory_bytes === null || run.start_memory_bytes === null
        ? "–"
        : `${bytes(run.peak_memory_bytes - run.start_memory_bytes)} above ${bytes(run.start_memory_bytes)}`,
    ],
    ["start and imports", `${seconds(run.start_s)} (not counted)`],
    ["run-queue wait", seconds(run.run_queue_wait_s)],
    ["other programs’ CPU", seconds(run.others_cpu_s)],
    ["taken by the host", seconds(run.stolen_s)],
    [
      "disturbed",
      run.disturbed_share === null
        ? "–"
        : `${figures(100 * run.disturbed_share, 2)} % of its time${run.disturbed_by ? `, by ${run.disturbed_by}` : ""}`,
    ],
    ...(run.inner_repeats > 1
      ? ([
          ["per repeat, of", count(run.inner_repeats)],
          ["first call", seconds(run.first_elapsed_s)],
        ] as [string, string][])
      : run.first_elapsed_s !== null
        ? ([["first call", seconds(run.first_elapsed_s)]] as [string, string][])
        : []),
    ["threads at most", run.most_threads === null ? "–" : count(run.most_threads)],
    [
      "input in memory",
      typeof run.cache?.share === "number"
        ? `${figures(100 * run.cache.share, 2)} % at the start`
        : "–",
    ],
    ["sandboxed", run.sandboxed ? "yes" : "no"],
    ["tables brought in", run.tables_s == null ? "–" : `${seconds(run.tables_s)} (not counted)`],
    ["read from disk", bytes(run.read_bytes)],
    ["written to disk", bytes(run.written_bytes)],
    ["page faults", run.page_faults === null ? "–" : count(run.page_faults)],
    ["switches", run.context_switches === null ? "–" : count(run.context_switches)],
    [
      "answer",
      run.answer_rows === null
        ? "–"
        : `${plural(run.answer_rows, "row")}, ${bytes(run.answer_bytes)}`,
    ],
    ["files left", bytes(run.left_bytes)],
    ...Object.entries(run.counters).map(
      ([name, value]) => [name, counted(name, value)] as [string, string],
    ),
  ];
  const curve = run.curve.map((sample) => ({
    t: sample.t_s,
    cpu: sample.cpu_s,
    memory: sample.memory_bytes - (run.start_memory_bytes ?? 0),
  }));
  // From an unknown start what was held above it cannot be drawn.
  const fromStart = run.start_memory_bytes !== null;
  const error = run.error;
  const reasons = Object.entries(run.not_measured);
  return (
    <section>
      <h3>
        Run {run.run}, {kindOfRun(run)}
      </h3>
      {error && (
        <div className="trouble">
          {error.line && <div className="where">line {error.line}</div>}
          {error.kind}: {error.message}
          {error.trace && (
            <details>
              <summary>Where it happened</summary>
              <pre>{error.trace}</pre>
            </details>
          )}
          {error.printed && (
            <>
              <div className="small">It printed last:</div>
              <pre className="printed">{error.printed}</pre>
            </>
          )}
        </div>
      )}
      {curve.length > 1 ? (
        <Figure
          title={`Curve of run ${run.run}`}
          head={["seconds", "CPU seconds so far", "bytes above the start"]}
          rows={curve.map((sample) => [sample.t, sample.cpu, fromStart ? sample.memory : null])}
        >
          <RunCurve
            curve={curve}
            spans={run.spans}
            colour={colour}
            width={WIDTH}
            height={150}
            withMemory={fromStart && (!run.several_processes || run.memory_run)}
          />
        </Figure>
      ) : (
        <p className="small faint">
          Too short for a curve: samples are {figures(25)} ms apart, its figures are exact all the
          same.
        </p>
      )}
      <dl className="facts-grid">
        {facts.map(([name, value]) => (
          <div key={name}>
            <dt>{name}</dt>
            <dd>{value}</dd>
          </div>
        ))}
      </dl>
      {reasons.length > 0 && (
        <p className="small faint">
          Not measured: {[...new Set(reasons.map(([, why]) => why))].join("; ")}.
        </p>
      )}
      {run.memory_method && (
        <p className="small faint">
          CPU time by {run.cpu_method}; peak memory by {run.memory_method}
          {run.scope && `; both of ${run.scope}`}.
        </p>
      )}
      {run.stages.length > 0 && (
        <table className="plain">
          <thead>
            <tr>
              <th>stage</th>
              <th className="number">elapsed</th>
              <th className="number">CPU</th>
              <th className="number">times</th>
            </tr>
          </thead>
          <tbody>
            {run.stages.map((stage) => (
              <tr key={stage.name}>
                <td>{stage.name}</td>
                <td className="number">{seconds(stage.elapsed_s)}</td>
                <td className="number">{seconds(stage.cpu_s)}</td>
                <td className="number">{count(stage.times)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {run.output && (
        <details>
          <summary>What it printed ({bytes(run.output_bytes)})</summary>
          <pre className="printed">{run.output}</pre>
        </details>
      )}
    </section>
  );
}

function kindOfRun(run: Run): string {
  if (run.memory_run) return "for its memory alone: its times count for nothing";
  return `${run.warm_up ? "a warm-up" : `round ${run.round}`}, ${ordinal(run.position)} in its round`;
}

function ordinal(n: number): string {
  const tail = n % 100 > 10 && n % 100 < 14 ? "th" : (["th", "st", "nd", "rd"][n % 10] ?? "th");
  return `${n}${tail}`;
}
