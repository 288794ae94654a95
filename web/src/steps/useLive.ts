/** A trial's live events, folded into what the race shows. */
import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useReducer } from "react";

export type Sample = { t: number; cpu: number; memory: number };

export type Running = {
  run: number;
  approach: string;
  round: number;
  warm_up: boolean;
  /** A run that is watched for its memory: its times count for nothing. */
  memory_alone: boolean;
  point: Record<string, unknown>;
  elapsed: number;
  stage: string;
  cpu: number;
  memory: number;
  samples: Sample[];
};

export type Ended = {
  run: number;
  approach: string;
  round: number;
  warm_up: boolean;
  state: string;
  point: Record<string, unknown>;
  memory_run: boolean;
  elapsed_s: number | null;
  error: { kind: string; message: string; line: number | null; printed?: string } | null;
  limit: { kind: string; value: number } | null;
};

export type LiveTrial = {
  making: { table: string; form: string; rows: number; total: number } | null;
  running: Running | null;
  ended: Ended[];
  out: Set<string>;
  cores: number[];
  /** Samples of each lane's latest finished run, to run against. */
  shadows: Record<string, Sample[]>;
  over: boolean;
  /** When the last event came, in ms since 1970. */
  seen: number;
};

const EMPTY: LiveTrial = {
  making: null,
  running: null,
  ended: [],
  out: new Set(),
  cores: [],
  shadows: {},
  over: false,
  seen: 0,
};

type LiveEvent = { kind: string; [field: string]: unknown };

export function fold(race: LiveTrial, event: LiveEvent): LiveTrial {
  return { ...folded(race, event), seen: Number(event.at ?? race.seen) };
}

function folded(race: LiveTrial, event: LiveEvent): LiveTrial {
  switch (event.kind) {
    case "reset":
      return EMPTY;
    case "data":
      return { ...race, making: event as unknown as LiveTrial["making"] };
    case "data made":
      return { ...race, making: null };
    case "run started": {
      const started = event as unknown as Running & { number: number };
      const running: Running = {
        ...started,
        run: started.number,
        elapsed: 0,
        stage: "",
        cpu: 0,
        memory: 0,
        samples: [],
      };
      return { ...race, making: null, running };
    }
    case "progress": {
      if (!race.running || race.running.run !== event.run) return race;
      const sample = {
        t: Number(event.elapsed_s),
        cpu: Number(event.cpu_s),
        memory: Number(event.memory_bytes),
      };
      return {
        ...race,
        cores: event.cores as number[],
        running: {
          ...race.running,
          elapsed: sample.t,
          cpu: sample.cpu,
          memory: sample.memory,
          stage: String(event.stage),
          samples: [...race.running.samples, sample],
        },
      };
    }
    case "run ended": {
      const ended = event as unknown as Ended;
      const samples = race.running?.run === ended.run ? race.running.samples : [];
      return {
        ...race,
        running: null,
        ended: ended.memory_run
          ? race.ended
          : [...race.ended.filter((e) => e.run !== ended.run), ended],
        shadows:
          samples.length && !ended.memory_run
            ? { ...race.shadows, [ended.approach]: samples }
            : race.shadows,
      };
    }
    case "lane out":
      return { ...race, out: new Set([...race.out, String(event.approach)]) };
    case "ended":
      return { ...race, running: null, making: null, over: true };
    default:
      return race;
  }
}

/** Follow a trial from its first event; what depends on it is asked for anew as runs end. */
export function useLive(trial: number | null, comparison: number): LiveTrial {
  const [race, tell] = useReducer(fold, EMPTY);
  const cache = useQueryClient();
  useEffect(() => {
    tell({ kind: "reset" });
    if (trial === null) return;
    const source = new EventSource(`/live/trials/${trial}`);
    source.onmessage = (message) => {
      const event = JSON.parse(message.data as string) as LiveEvent;
      tell({ ...event, at: Date.now() });
      if (event.kind === "started") {
        void cache.invalidateQueries({ queryKey: ["trial", trial] });
        void cache.invalidateQueries({ queryKey: ["now"] });
      }
      if (event.kind === "ended") {
        void cache.invalidateQueries({ queryKey: ["trial", trial] });
        void cache.invalidateQueries({ queryKey: ["findings", trial] });
        void cache.invalidateQueries({ queryKey: ["trials", comparison] });
        void cache.invalidateQueries({ queryKey: ["comparisons"] });
        void cache.invalidateQueries({ queryKey: ["now"] });
      }
    };
    source.addEventListener("over", () => source.close());
    return () => source.close();
  }, [trial, comparison, cache]);
  return race;
}
