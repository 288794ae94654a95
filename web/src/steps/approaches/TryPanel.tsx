/** A try of the lane on a small size: its answer's first rows, time a stage, and trouble. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, Select } from "antd";
import { api, taken, type Lane, type Problem, type Schemas } from "../../api/client";
import { type JobState, underWay } from "../../ui/job";
import { Trouble } from "../../ui/Trouble";
import { bytes, count, figures, plural, seconds } from "../../ui/units";

const ASK_MS = 500;
/** More than any table has. */
export const EVERY_ROW = 2_000_000_000;
const SIZES = [10, 1_000, 10_000, 100_000];

export type PanelProps = {
  comparison: number;
  lane: Lane;
  rows: number;
  onRows: (rows: number) => void;
  /** Bring what is typed to the server first; a try runs what is there. */
  beforeTry: () => Promise<unknown>;
};

export function useTry(comparison: number, lane: string) {
  return useQuery({
    queryKey: ["try", comparison, lane],
    queryFn: () =>
      taken(
        api.GET("/api/comparisons/{comparison}/lanes/{lane}/try/", {
          params: { path: { comparison, lane } },
        }),
      ),
    refetchInterval: (query) => {
      const { newest, explained, interrupted, hot } = query.state.data ?? {};
      return [newest, explained, interrupted, hot].some((found) => underWay(found?.state))
        ? ASK_MS
        : false;
    },
  });
}

/** Ask for a try of a kind, once what is typed has reached the server. */
export function useStart(comparison: number, lane: string, before: () => Promise<unknown>) {
  const cache = useQueryClient();
  return useMutation<Schemas["Tries"], Problem, Partial<Schemas["TryRequest"]>>({
    mutationFn: async (asked) => {
      await before();
      return taken(
        api.POST("/api/comparisons/{comparison}/lanes/{lane}/try/", {
          params: { path: { comparison, lane } },
          body: { rows: 1000, kind: "try", share: 0.5, ...asked },
        }),
      );
    },
    onSuccess: (made) => cache.setQueryData(["try", comparison, lane], made),
  });
}

/** How a try that is not done yet stands, with a way to have it done sooner. */
export function Waiting(props: {
  comparison: number;
  lane: string;
  kind: Schemas["TryRequest"]["kind"];
  found: { state: JobState; behind: number | null; now: boolean; stop_asked: boolean };
}) {
  const { comparison, lane, kind, found } = props;
  const cache = useQueryClient();
  const path = { comparison, lane };
  const onSuccess = (told: Schemas["Tries"]) => cache.setQueryData(["try", comparison, lane], told);
  const now = useMutation<Schemas["Tries"], Problem>({
    mutationFn: () =>
      taken(
        api.PATCH("/api/comparisons/{comparison}/lanes/{lane}/try/", {
          params: { path },
          body: { kind },
        }),
      ),
    onSuccess,
  });
  const stop = useMutation<Schemas["Tries"], Problem>({
    mutationFn: () =>
      taken(
        api.DELETE("/api/comparisons/{comparison}/lanes/{lane}/try/", {
          params: { path, query: { kind } },
        }),
      ),
    onSuccess,
  });
  return (
    <>
      {waitingWords(found)}
      {found.behind !== null && !found.now && (
        <Button
          type="link"
          size="small"
          data-testid="try-now"
          title="Between two runs: the trial pauses for it"
          loading={now.isPending}
          onClick={() => now.mutate()}
        >
          do it now
        </Button>
      )}
      <Button
        type="link"
        size="small"
        data-testid="try-stop"
        loading={stop.isPending || found.stop_asked}
        onClick={() => stop.mutate()}
      >
        stop
      </Button>
    </>
  );
}

function waitingWords(found: { state: JobState; behind: number | null; now: boolean }): string {
  if (found.state === "running") return "running";
  if (found.behind === null) return "waiting for its turn";
  return found.now
    ? `next, between two runs of trial ${found.behind}`
    : `waiting behind trial ${found.behind}`;
}

/** On how many rows. */
export function Size({ rows, onRows }: { rows: number; onRows: (rows: number) => void }) {
  return (
    <>
      <span className="small quiet">on</span>
      <Select
        size="small"
        value={rows}
        aria-label="Rows to try on"
        popupMatchSelectWidth={false}
        options={SIZES.map((size) => ({ value: size, label: `${count(size)} rows` }))}
        onChange={onRows}
      />
    </>
  );
}

type TryProps = PanelProps & {
  /** Figures and errors alone, where something else has the room. */
  brief?: boolean;
};

export function TryPanel({ comparison, lane, rows, onRows, beforeTry, brief }: TryProps) {
  const found = useTry(comparison, lane.id);
  const start = useStart(comparison, lane.id, beforeTry);
  const shown = found.data?.newest;
  const waiting = underWay(shown?.state);
  return (
    <div className="try" data-testid="try-panel">
      <div className="row">
        <Button
          size="small"
          type="primary"
          loading={start.isPending || waiting}
          data-testid="try"
          onClick={() => start.mutate({ rows })}
        >
          Try it
        </Button>
        <Size rows={rows} onRows={onRows} />
        <span className="small quiet" data-testid="try-state">
          {shown && waiting ? (
            <Waiting comparison={comparison} lane={lane.id} kind="try" found={shown} />
          ) : shown ? (
            stateWords(shown)
          ) : (
            "once, not counted"
          )}
        </span>
      </div>
      <Trouble error={start.error ?? ((shown?.message ?? null) as Problem | null)} />
      {shown && !waiting && <Outcome found={shown} brief={brief} />}
    </div>
  );
}

function stateWords(found: Schemas["TryShape"]): string {
  if (found.state === "stopped") return "stopped";
  if (found.trouble) return found.trouble;
  if (found.run_state === "failed") return "failed";
  return `${seconds(found.elapsed_s)}, CPU ${seconds(found.cpu_s)}, ${bytes(found.peak_memory_bytes)} above its start`;
}

function Outcome({ found, brief }: { found: Schemas["TryShape"]; brief?: boolean }) {
  const error = found.error as { kind: string; message: string; line: number | null } | null;
  return (
    <>
      {error && (
        <div className="trouble" data-testid="try-error">
          {error.line && <div className="where">line {error.line}</div>}
          {error.kind}: {error.message}
        </div>
      )}
      {!brief && <Told found={found} />}
    </>
  );
}

function Told({ found }: { found: Schemas["TryShape"] }) {
  const counters = Object.entries(found.counters).filter(([, value]) => value > 0);
  return (
    <>
      {found.stages.length > 1 && (
        <p className="small">
          {found.stages.map((stage) => (
            <span key={stage.name} className="stage-time">
              {stage.name} <strong>{seconds(stage.elapsed_s)}</strong>
            </span>
          ))}
        </p>
      )}
      {counters.length > 0 && (
        <p className="small quiet">
          {counters
            .map(([name, value]) =>
              Number.isInteger(value) ? `${name} ${count(value)}` : `${name} ${figures(value)}`,
            )
            .join(", ")}
        </p>
      )}
      {found.columns.length > 0 && (
        <>
          <h3>
            The answer
            {found.answer_rows !== null && `, ${plural(found.answer_rows, "row")}`}
          </h3>
          <div className="scroll">
            <table className="plain mono answer">
              <thead>
                <tr>
                  {found.columns.map((column) => (
                    <th key={column.name}>
                      {column.name}
                      <span className="type">{column.type}</span>
                    </th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {found.rows.map((row, i) => (
                  <tr key={i}>
                    {row.map((value, c) => (
                      <td key={found.columns[c]?.name ?? c}>
                        {value ?? <span className="faint">null</span>}
                      </td>
                    ))}
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        </>
      )}
      {found.output && (
        <details>
          <summary>What it printed</summary>
          <pre className="printed">{found.output}</pre>
        </details>
      )}
    </>
  );
}
