/** The live view: a lane is a row of rounds filling up, the running one drawn as it goes. */
import { underWay } from "../ui/job";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, Tooltip } from "antd";
import { useEffect } from "react";
import { Link } from "react-router";
import { api, taken, type Comparison, type Problem, type Schemas, type Trial } from "../api/client";
import { Trouble } from "../ui/Trouble";
import { useView } from "../ui/view";
import { Glyph, laneColour } from "../lanes/mark";
import {
  ago,
  bytes,
  figures,
  momentWords,
  plural,
  pointWords,
  seconds,
  trimmed,
} from "../ui/units";
import { RunCurve } from "../plot/RunCurve";
import { type Ended, type LiveTrial, type Running, useLive } from "./useLive";

const AWAY_MS = 10_000;

export function LiveView({ comparison, trial }: { comparison: Comparison; trial: Trial }) {
  const view = useView();
  const live = useLive(trial.id, comparison.id);
  const at = { params: { path: { id: trial.id } } };
  const cache = useQueryClient();
  const onSuccess = (told: Trial) => cache.setQueryData(["trial", trial.id], told);
  const stopAll = useMutation({
    mutationFn: () => taken(api.POST("/api/trials/{id}/stop/", at)),
    onSuccess,
  });
  const pause = useMutation({
    mutationFn: () => taken(api.POST("/api/trials/{id}/pause/", at)),
    onSuccess,
  });
  const resume = useMutation<Trial, Problem, boolean>({
    mutationFn: (other_versions) =>
      taken(api.POST("/api/trials/{id}/resume/", { ...at, body: { other_versions } })),
    onSuccess: (told) => {
      onSuccess(told);
      void cache.invalidateQueries({ queryKey: ["now"] });
    },
  });
  const elsewhere = useMutation<Trial, Problem>({
    mutationFn: () => taken(api.POST("/api/trials/{id}/elsewhere/", at)),
    onSuccess,
  });
  // A machine that is away says nothing: its trial is looked at now and then.
  const away = trial.on !== "" && underWay(trial.state);
  useEffect(() => {
    if (!away) return;
    const timer = window.setInterval(
      () => void cache.invalidateQueries({ queryKey: ["trial", trial.id] }),
      AWAY_MS,
    );
    return () => window.clearInterval(timer);
  }, [away, cache, trial.id]);
  const goOn = useMutation({
    mutationFn: () => taken(api.POST("/api/trials/{id}/continue/", at)),
    onSuccess,
  });
  const stopRun = useMutation({
    mutationFn: (number: number) =>
      taken(
        api.POST("/api/trials/{id}/runs/{number}/stop/", {
          params: { path: { id: trial.id, number } },
        }),
      ),
  });
  const drop = useMutation({
    mutationFn: (lane: string) =>
      taken(
        api.POST("/api/trials/{id}/lanes/{lane}/drop/", {
          params: { path: { id: trial.id, lane } },
        }),
      ),
  });
  const going = underWay(trial.state) && !live.over;
  const ids = trial.plan.approaches ?? Object.keys(trial.lanes);
  const shown =
    trial.points.find((point) => JSON.stringify(point) === view.point) ??
    live.running?.point ??
    trial.points[0] ??
    {};
  const here = (point: Record<string, unknown>) => pointWords(point) === pointWords(shown);
  const columns = shownRounds(trial, live);
  const ended = live.ended.filter((run) => here(run.point));
  const running = live.running;
  const longest = Math.max(
    0,
    ...ended.map((run) => run.elapsed_s ?? 0),
    live.running?.elapsed ?? 0,
  );
  return (
    <section className="live" data-testid="live" data-state={trial.state}>
      <div className="row live-head">
        <h2>
          Trial {trial.id}
          {trial.on && <span className="small quiet"> on {trial.on}</span>}
        </h2>
        <span className="quiet grow cut" data-testid="live-state">
          {stateWords(trial, live.ended.length, live.over)}
          {trial.points.length > 1 && `, ${pointWords(shown)}`}
          {roundsWords(trial, columns)}
          {live.again.length > 0 && `, ${plural(live.again.length, "disturbed run")} done again`}
        </span>
        {going ? (
          <>
            <TimeLeft trial={trial} ended={live.ended} seen={live.seen} />
            {trial.state === "paused" || trial.pause_asked ? (
              <Button
                size="small"
                type="primary"
                loading={goOn.isPending}
                onClick={() => goOn.mutate()}
                data-testid="continue"
              >
                Go on
              </Button>
            ) : (
              <Button
                size="small"
                loading={pause.isPending}
                onClick={() => pause.mutate()}
                title="After the run under way; others that wait go first"
                data-testid="pause"
              >
                Pause
              </Button>
            )}
            {running && (
              <Button size="small" onClick={() => stopRun.mutate(running.run)}>
                Stop this run
              </Button>
            )}
            <Button
              size="small"
              danger
              loading={stopAll.isPending || trial.stop_asked}
              onClick={() => stopAll.mutate()}
              data-testid="stop-all"
            >
              Stop all
            </Button>
          </>
        ) : (
          <Link to={`/comparisons/${comparison.id}/findings?trial=${trial.id}`} className="nowrap">
            Read the findings
          </Link>
        )}
      </div>
      {trial.away_since && going && (
        <div className="caution away" data-testid="away">
          {trial.on} is away, last heard of {ago(trial.away_since)}. The trial goes on there when it
          is back.{" "}
          <Button
            size="small"
            loading={elsewhere.isPending}
            data-testid="elsewhere"
            onClick={() => elsewhere.mutate()}
          >
            Run it here from the start
          </Button>
          <Trouble error={elsewhere.error} />
        </div>
      )}
      {trial.message && (
        <div className="trouble" role="alert">
          {trial.message.where && <div className="where">{trial.message.where}</div>}
          {trial.message.what} {trial.message.hint}
          {trial.state === "failed" && (
            <div className="row">
              {!trial.message.other_versions && (
                <Button
                  size="small"
                  loading={resume.isPending}
                  data-testid="resume"
                  onClick={() => resume.mutate(false)}
                >
                  Go on where it was
                </Button>
              )}
              {trial.message.other_versions && (
                <Button
                  size="small"
                  loading={resume.isPending}
                  data-testid="resume"
                  onClick={() => resume.mutate(true)}
                >
                  Go on with what is here now
                </Button>
              )}
            </div>
          )}
          <Trouble error={resume.error} />
        </div>
      )}
      {live.standing && going && (
        <p className="standing" data-testid="standing">
          After {plural(live.standing.rounds, "round")}: {live.standing.words}{" "}
          <span className="small faint">Answers are judged at the end.</span>
        </p>
      )}
      {live.making && going && (
        <div className="making">
          <span>
            Making {live.making.table} as {live.making.form}
          </span>
          <progress max={live.making.total} value={live.making.rows} />
          <span className="quiet">
            {figures((100 * live.making.rows) / live.making.total, 2)} % of{" "}
            {plural(live.making.total, "row")}
          </span>
        </div>
      )}
      <div
        className="live-grid"
        style={{
          gridTemplateColumns: `minmax(150px, 220px) repeat(${columns.length}, minmax(46px, 92px)) 28px`,
        }}
      >
        <span />
        {columns.map((round) => (
          <span key={round} className="round-head">
            {round < 1 ? "warm-up" : round}
          </span>
        ))}
        <span />
        {ids.map((id) => {
          const lane = comparison.lanes.find((l) => l.id === id);
          const place = comparison.marks[id] ?? 0;
          return [
            <div key={id} className="live-lane" data-testid={`live-${id}`}>
              <Glyph place={place} />
              <span className="cut" title={lane?.name ?? id}>
                {lane?.name ?? id}
              </span>
            </div>,
            ...columns.map((round) => (
              <Cell
                key={`${id} ${round}`}
                place={place}
                longest={longest}
                ended={ended.find((run) => run.approach === id && run.round === round)}
                again={
                  live.again.filter(
                    (run) => run.approach === id && run.round === round && here(run.point),
                  ).length
                }
                running={
                  live.running?.approach === id &&
                  live.running.round === round &&
                  !live.running.memory_run &&
                  going
                    ? live.running
                    : undefined
                }
              />
            )),
            <span key={`${id} drop`}>
              {going && !trial.dropped.includes(id) && !live.out.has(id) && (
                <Tooltip title="Skip this lane from now on">
                  <button
                    className="text faint"
                    aria-label={`Drop ${lane?.name ?? id}`}
                    onClick={() => drop.mutate(id)}
                  >
                    ✕
                  </button>
                </Tooltip>
              )}
            </span>,
          ];
        })}
      </div>
      {going && (
        <Now
          comparison={comparison}
          running={live.running}
          cores={live.cores}
          shadows={live.shadows}
        />
      )}
      <Failures comparison={comparison} ended={ended} />
    </section>
  );
}

const MOST_COLUMNS = 14;

/** Rounds at the most: a plan that ends when it is sure may need fewer. */
function mostRounds(trial: Trial): number {
  return trial.plan.until?.at_most ?? trial.plan.rounds ?? 5;
}

/** The rounds there is room for: all of them, or the last ones up to that under way. */
function shownRounds(trial: Trial, live: LiveTrial): number[] {
  const first = 1 - (trial.plan.warm_ups ?? 1);
  const seen = Math.max(first, ...live.ended.map((run) => run.round), live.running?.round ?? first);
  const usual = trial.plan.until?.at_least ?? trial.plan.rounds ?? 5;
  // What was added to a trial may have rounds beyond its plan's.
  const last = Math.max(seen, Math.min(mostRounds(trial), Math.max(seen, usual)));
  const from = Math.max(
    first,
    Math.min(last, Math.max(seen, first + MOST_COLUMNS - 1)) - MOST_COLUMNS + 1,
  );
  const to = Math.min(last, from + MOST_COLUMNS - 1);
  return Array.from({ length: to - from + 1 }, (_, i) => from + i);
}

function roundsWords(trial: Trial, columns: number[]): string {
  const [from = 1] = columns;
  const to = columns[columns.length - 1] ?? 1;
  const most = mostRounds(trial);
  if (from > 1) return `, rounds ${from} to ${to} of ${trial.plan.until ? "up to " : ""}${most}`;
  return trial.plan.until ? `, up to ${plural(most, "round")}` : "";
}

function stateWords(trial: Trial, done: number, over: boolean): string {
  const most = trial.plan.until || trial.plan.search || trial.until_told ? "at most " : "";
  const runs = `${done} of ${most}${plural(trial.planned_runs, "run")}`;
  if (trial.state === "waiting" && !over) {
    const soFar = done > 0 ? `, ${runs}` : "";
    if (trial.stop_asked) return `stopping${soFar}`;
    if (trial.not_before && new Date(trial.not_before) > new Date()) {
      return `waiting until ${momentWords(trial.not_before)}${soFar}`;
    }
    if (trial.on) return `waiting for ${trial.on}${soFar}`;
    return trial.ahead
      ? `waiting behind ${plural(trial.ahead, "trial")}${soFar}`
      : `waiting for the worker${soFar}`;
  }
  if (trial.state === "paused" && !over) return `paused, ${runs}`;
  if (trial.state === "running" && !over) {
    if (trial.stop_asked) return `stopping, ${runs}`;
    return trial.pause_asked ? `pausing after this run, ${runs}` : runs;
  }
  const word = { done: "done", stopped: "stopped", failed: "failed" }[trial.state as string];
  return `${word ?? "done"}, ${runs}`;
}

/** Time left, from what the runs so far took in all, preparation included. */
function TimeLeft({ trial, ended, seen }: { trial: Trial; ended: Ended[]; seen: number }) {
  const from = trial.added_from;
  // The time so far is that of what is being added, and of no run before it.
  const own = from === null ? ended : ended.filter((run) => run.round >= from);
  if (own.length < 2 || !trial.started_at || trial.until_told) return null;
  const gone = (seen - new Date(trial.started_at).getTime()) / 1000;
  const left = (gone / own.length) * Math.max(0, trial.planned_runs - ended.length);
  return (
    <span className="quiet nowrap">
      about {left < 10 ? "a few s" : trimmed(seconds(Math.round(left)))} left
    </span>
  );
}

type CellProps = {
  place: number;
  longest: number;
  ended?: Ended;
  running?: Running;
  /** How often it was disturbed and done again. */
  again: number;
};

function Cell({ place, longest, ended, running, again }: CellProps) {
  const time = ended?.elapsed_s ?? running?.elapsed ?? 0;
  const share = longest > 0 ? Math.max(0.02, time / longest) : 0;
  const state = ended?.state ?? (running ? "running" : "open");
  const label =
    state === "done"
      ? seconds(time)
      : state === "running"
        ? time
          ? seconds(time)
          : "ready"
        : state === "limit"
          ? `> ${seconds(ended?.limit?.kind === "elapsed" ? ended.limit.value : null)}`
          : state === "open"
            ? ""
            : state;
  return (
    <div
      className={`cell ${state} ${ended?.warm_up || running?.warm_up ? "warm-up" : ""}`}
      style={{ "--mark": laneColour(place) } as React.CSSProperties}
      title={again ? `${plural(again, "run")} before it disturbed, and done again` : undefined}
    >
      {again > 0 && <span className="again" aria-hidden />}
      {(state === "done" || state === "running") && (
        <span className="fill" style={{ width: `${100 * share}%` }} />
      )}
      <span className="label">{label}</span>
    </div>
  );
}

type NowProps = {
  comparison: Comparison;
  running: Running | null;
  cores: number[];
  shadows: Record<string, { t: number; cpu: number; memory: number }[]>;
};

function Now({ comparison, running, cores, shadows }: NowProps) {
  const lane = comparison.lanes.find((l) => l.id === running?.approach);
  const place = comparison.marks[running?.approach ?? ""] ?? 0;
  return (
    <div className="now">
      <div className="now-words">
        {running ? (
          <>
            <div className="row">
              <Glyph place={place} size={16} />
              <strong className="cut">{lane?.name}</strong>
            </div>
            <div className="quiet">
              {running.memory_run
                ? "a run for its memory alone"
                : running.warm_up
                  ? "warm-up"
                  : `round ${running.round}`}
              {running.elapsed
                ? `, ${running.stage || "running"}`
                : ", getting ready (not timed) or too short to watch"}
            </div>
            {running.elapsed > 0 && (
              <div>
                {seconds(running.elapsed)}, {figures(running.cpu / running.elapsed, 2)} cores busy,{" "}
                {bytes(running.memory)}
              </div>
            )}
          </>
        ) : (
          <span className="faint">Between runs</span>
        )}
      </div>
      <RunCurve
        curve={running?.samples ?? []}
        shadow={running ? shadows[running.approach] : undefined}
        colour={laneColour(place)}
        width={430}
        height={84}
      />
      <div className="cores" aria-label="Cores of the machine">
        {cores.map((busy, i) => (
          <div key={i} className="core">
            <span className="fill" style={{ width: `${Math.round(busy * 100)}%` }} />
            <span className="label">
              core {i} {Math.round(busy * 100)} %
            </span>
          </div>
        ))}
      </div>
      {running?.cluster && <ClusterStrip cluster={running.cluster} place={place} />}
    </div>
  );
}

type ClusterProps = { cluster: Schemas["ClusterProgress"]; place: number };

/** A session of Spark as it goes on: its tasks as one bar, and what it has to work with. */
function ClusterStrip({ cluster, place }: ClusterProps) {
  const all = cluster.done + cluster.running + cluster.waiting || 1;
  const parts = [
    { word: "done", count: cluster.done, opacity: 0.9 },
    { word: "running", count: cluster.running, opacity: 0.5 },
    { word: "waiting", count: cluster.waiting, opacity: 0.14 },
  ];
  const told = parts.map((part) => `${part.count.toLocaleString("en")} ${part.word}`).join(", ");
  return (
    <div className="cluster" data-testid="cluster">
      <span>
        {plural(cluster.executors, "executor")}, {plural(cluster.cores, "core")}
      </span>
      <span className="tasks" role="img" aria-label={`Tasks: ${told}`} title={`Tasks: ${told}`}>
        {parts.map((part) => (
          <span
            key={part.word}
            style={{
              width: `${(100 * part.count) / all}%`,
              background: laneColour(place),
              opacity: part.opacity,
            }}
          />
        ))}
      </span>
      <span className="quiet">tasks: {told}</span>
      <span className="quiet">
        {bytes(cluster.shuffle_bytes)} shuffled, {bytes(cluster.spilled_bytes)} spilled to disk
      </span>
    </div>
  );
}

function Failures({ comparison, ended }: { comparison: Comparison; ended: Ended[] }) {
  const first = new Map<string, Ended>();
  for (const run of ended) {
    if (run.state === "failed" && !first.has(run.approach)) first.set(run.approach, run);
  }
  return (
    <>
      {[...first.values()].map((run) => (
        <div
          className="trouble"
          role="alert"
          key={run.approach}
          data-testid={`failed-${run.approach}`}
        >
          <div className="where">
            <Link to={`/comparisons/${comparison.id}/approaches?lane=${run.approach}`}>
              {comparison.lanes.find((l) => l.id === run.approach)?.name ?? run.approach}
              {run.error?.line ? `, line ${run.error.line}` : ""}
            </Link>
          </div>
          <span className={run.error?.message.includes("\n") ? "mono" : ""}>
            {run.error?.kind}: {run.error?.message}
          </span>
          {run.error?.printed && <pre className="printed">{run.error.printed}</pre>}
        </div>
      ))}
    </>
  );
}
