/** The queue of this machine: what runs, what waits and when it is due, what ended. */
import { ArrowUpOutlined, PauseOutlined, VerticalAlignTopOutlined } from "@ant-design/icons";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, Tooltip } from "antd";
import { useEffect } from "react";
import { Link } from "react-router";
import { api, taken, type Problem, type Schemas } from "../api/client";
import { useNow } from "../api/queries";
import { Opening } from "../ui/Opening";
import { Trouble } from "../ui/Trouble";
import { ago, localMoment, momentWords, plural } from "../ui/units";

type Queue = Schemas["Queue"];
type JobLine = Schemas["JobLine"];
const KEY = ["queue"];

function useQueue() {
  const cache = useQueryClient();
  const now = useNow().data;
  const queue = useQuery({ queryKey: KEY, queryFn: () => taken(api.GET("/api/queue/")) });
  // Asked anew where something has changed: what is timed meanwhile is left alone.
  const told = now && [now.trial, now.waiting, now.paused, now.timing].join(" ");
  useEffect(() => {
    void cache.invalidateQueries({ queryKey: KEY });
  }, [told, cache]);
  const change = useMutation<Queue, Problem, () => Promise<Queue>>({
    mutationFn: (ask) => ask(),
    onSuccess: (found) => {
      cache.setQueryData(KEY, found);
      void cache.invalidateQueries({ queryKey: ["now"] });
    },
  });
  return { queue, change };
}

export function QueuePage() {
  const { queue, change } = useQueue();
  const found = queue.data;
  if (!found)
    return queue.error ? <Trouble error={queue.error as Problem} /> : <Opening what="the queue" />;
  const of = (state: JobLine["state"]) => found.under_way.filter((job) => job.state === state);
  const waiting = of("waiting");
  const order = (jobs: JobLine[]) =>
    change.mutate(() =>
      taken(api.PUT("/api/queue/", { body: { jobs: jobs.map((job) => job.id) } })),
    );
  const moved = (place: number, to: number) => {
    const jobs = [...waiting];
    jobs.splice(to, 0, ...jobs.splice(place, 1));
    order(jobs);
  };
  return (
    <main className="queue-page" data-testid="queue">
      <h1>Queue</h1>
      <Trouble error={change.error} />
      <Part title="Now" empty="Nothing runs.">
        {of("running").map((job) => (
          <Line key={job.id} job={job} change={change.mutate} />
        ))}
      </Part>
      <Part title="Waiting" empty="Nothing waits.">
        {waiting.map((job, place) => (
          <Line key={job.id} job={job} change={change.mutate}>
            <Due job={job} change={change.mutate} />
            {place > 0 && (
              <>
                <Tool
                  title="One place up"
                  icon={<ArrowUpOutlined />}
                  onClick={() => moved(place, place - 1)}
                />
                <Tool
                  title="Next of all"
                  icon={<VerticalAlignTopOutlined />}
                  onClick={() => moved(place, 0)}
                />
              </>
            )}
          </Line>
        ))}
      </Part>
      {of("paused").length > 0 && (
        <Part title="Paused" empty="">
          {of("paused").map((job) => (
            <Line key={job.id} job={job} change={change.mutate} />
          ))}
        </Part>
      )}
      <Part title="Ended" empty="No trial has ended yet.">
        {found.ended.map((job) => (
          <Line key={job.id} job={job} change={change.mutate} />
        ))}
      </Part>
    </main>
  );
}

function Part(props: { title: string; empty: string; children: React.ReactNode[] }) {
  return (
    <section>
      <h2>{props.title}</h2>
      {props.children.length ? (
        <ul className="queue">{props.children}</ul>
      ) : (
        <p className="quiet">{props.empty}</p>
      )}
    </section>
  );
}

function Tool(props: { title: string; icon: React.ReactNode; onClick: () => void }) {
  return (
    <Tooltip title={props.title}>
      <Button
        size="small"
        type="text"
        aria-label={props.title}
        icon={props.icon}
        onClick={props.onClick}
      />
    </Tooltip>
  );
}

type Change = (ask: () => Promise<Queue>) => void;

function Line(props: { job: JobLine; change: Change; children?: React.ReactNode }) {
  const { job, change, children } = props;
  const at = { params: { path: { id: job.id } } };
  const ended = !["running", "waiting", "paused"].includes(job.state);
  return (
    <li data-testid={`job-${job.id}`} data-state={job.state}>
      <span className={`lamp ${job.state}`} aria-hidden="true" />
      <div className="what">
        <Name job={job} />
        <div className="small quiet">{told(job)}</div>
        {job.state === "failed" && job.message && (
          <div className="small bad">
            {job.message.what} {job.message.hint}
          </div>
        )}
      </div>
      {!ended && (
        <div className="row tools">
          {children}
          {job.kind === "trial" &&
            (job.state === "paused" || job.pause_asked ? (
              <Button
                size="small"
                onClick={() => change(() => taken(api.POST("/api/queue/{id}/continue/", at)))}
              >
                Go on
              </Button>
            ) : (
              <Tool
                title={job.state === "running" ? "Pause after the run under way" : "Pause"}
                icon={<PauseOutlined />}
                onClick={() => change(() => taken(api.POST("/api/queue/{id}/pause/", at)))}
              />
            ))}
          <Button
            size="small"
            danger
            loading={job.stop_asked}
            onClick={() => change(() => taken(api.POST("/api/queue/{id}/stop/", at)))}
          >
            {job.state === "waiting" && !job.done_runs ? "Cancel" : "Stop"}
          </Button>
        </div>
      )}
    </li>
  );
}

function Name({ job }: { job: JobLine }) {
  const name = job.comparison_name ? `${job.comparison_name}: ${job.words}` : job.words;
  if (job.comparison === null) return <>{name}</>;
  const step = { trial: "trial", making: "data", judging: "agreement" }[job.kind] ?? "approaches";
  const ended = job.state === "done" || job.state === "stopped";
  const to =
    job.trial === null
      ? `/comparisons/${job.comparison}/${step}`
      : `/comparisons/${job.comparison}/${ended ? "findings" : "trial"}?trial=${job.trial}`;
  return (
    <Link to={to}>
      {name} {job.trial}
    </Link>
  );
}

function told(job: JobLine): string {
  const runs =
    job.planned_runs === null ? "" : `${job.done_runs} of ${plural(job.planned_runs, "run")}`;
  if (job.state === "running") {
    const asked = job.stop_asked ? "stopping" : job.pause_asked ? "pausing after this run" : "";
    return [runs, asked].filter(Boolean).join(", ");
  }
  if (job.state === "waiting") {
    const due = job.not_before && `not before ${momentWords(job.not_before)}`;
    const hours = job.hours && `between ${job.hours.first} and ${job.hours.until} o’clock`;
    return [runs, due, hours, `asked for ${ago(job.created_at)}`].filter(Boolean).join(", ");
  }
  if (job.state === "paused") return `${runs}; others pass it until it goes on`;
  const when = job.finished_at ? ago(job.finished_at) : "";
  return [when, job.state === "done" ? "" : `${job.state}, ${runs}`, job.headline]
    .filter(Boolean)
    .join("; ");
}

/** When a job may begin. */
function Due({ job, change }: { job: JobLine; change: Change }) {
  const put = (value: string) =>
    change(() =>
      taken(
        api.POST("/api/queue/{id}/due/", {
          params: { path: { id: job.id } },
          body: { not_before: value ? new Date(value).toISOString() : null, hours: job.hours },
        }),
      ),
    );
  return (
    <label className="small quiet due">
      not before{" "}
      <input
        key={job.not_before ?? ""}
        type="datetime-local"
        aria-label="Not before"
        defaultValue={job.not_before ? localMoment(new Date(job.not_before)) : ""}
        onBlur={(event) => {
          const before = job.not_before ? localMoment(new Date(job.not_before)) : "";
          if (event.target.value !== before) put(event.target.value);
        }}
      />
    </label>
  );
}
