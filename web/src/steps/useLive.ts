/** A trial's live events, folded into what the live view shows. */
import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useReducer } from "react";
import type { LiveEvent, Schemas } from "../api/client";
import { trialEnded } from "../api/queries";
import type { Sample } from "../plot/RunCurve";

/** A run under way; one that is watched for its memory has times that count for nothing. */
export type Running = Schemas["RunStarted"] & {
  elapsed: number;
  stage: string;
  cpu: number;
  memory: number;
  samples: Sample[];
  cluster: Schemas["ClusterProgress"] | null;
};

export type Ended = Schemas["RunLine"];

export type LiveTrial = {
  making: Schemas["DataProgress"] | null;
  running: Running | null;
  ended: Ended[];
  /** Runs that were disturbed and are done again. */
  again: Ended[];
  out: Set<string>;
  cores: number[];
  /** Samples of each lane's latest finished run, to run against. */
  shadows: Record<string, Sample[]>;
  /** Who leads by now. */
  standing: Schemas["StandingTold"] | null;
  over: boolean;
  /** When the last event came, in ms since 1970. */
  seen: number;
};

const EMPTY: LiveTrial = {
  making: null,
  running: null,
  ended: [],
  again: [],
  out: new Set(),
  cores: [],
  shadows: {},
  standing: null,
  over: false,
  seen: 0,
};

type Told = { events: LiveEvent[]; at: number } | "reset";

export function fold(live: LiveTrial, told: Told): LiveTrial {
  return told === "reset" ? EMPTY : { ...told.events.reduce(folded, live), seen: told.at };
}

function folded(live: LiveTrial, event: LiveEvent): LiveTrial {
  switch (event.kind) {
    case "data":
      return { ...live, making: event };
    case "data made":
      return { ...live, making: null };
    case "run started": {
      const begun = { elapsed: 0, stage: "", cpu: 0, memory: 0, samples: [], cluster: null };
      return { ...live, making: null, running: { ...event, ...begun } };
    }
    case "progress": {
      if (live.running?.run !== event.run) return live;
      const sample = { t: event.elapsed_s, cpu: event.cpu_s, memory: event.memory_bytes };
      return {
        ...live,
        cores: event.cores,
        running: {
          ...live.running,
          elapsed: sample.t,
          cpu: sample.cpu,
          memory: sample.memory,
          stage: event.stage,
          cluster: event.cluster ?? null,
          samples: [...live.running.samples, sample],
        },
      };
    }
    case "run ended": {
      const samples = live.running?.run === event.run ? live.running.samples : [];
      return {
        ...live,
        running: null,
        ended:
          event.memory_run || event.set_aside
            ? live.ended
            : [...live.ended.filter((e) => e.run !== event.run), event],
        again:
          event.set_aside && !live.again.some((e) => e.run === event.run)
            ? [...live.again, event]
            : live.again,
        shadows:
          samples.length && !event.memory_run
            ? { ...live.shadows, [event.approach]: samples }
            : live.shadows,
      };
    }
    case "standing":
      return { ...live, standing: event };
    case "lane out":
      return { ...live, out: new Set([...live.out, event.approach]) };
    case "ended":
      return { ...live, running: null, making: null, over: true };
    case "started":
    case "paused":
    case "judged":
      return live;
  }
}

/** Events are shown together that come within so long: an ended trial may have thousands. */
const TOGETHER_MS = 40;

/** Follow a trial from its first event; what depends on it is asked for anew as runs end. */
export function useLive(trial: number | null, comparison: number): LiveTrial {
  const [live, tell] = useReducer(fold, EMPTY);
  const cache = useQueryClient();
  useEffect(() => {
    tell("reset");
    if (trial === null) return;
    const source = new EventSource(`/live/trials/${trial}`);
    let waiting: LiveEvent[] = [];
    let timer = 0;
    const show = () => {
      tell({ events: waiting, at: Date.now() });
      waiting = [];
      timer = 0;
    };
    source.onmessage = (message) => {
      const event = JSON.parse(message.data as string) as LiveEvent;
      waiting.push(event);
      timer ||= window.setTimeout(show, TOGETHER_MS);
      if (event.kind === "started" || event.kind === "paused") {
        void cache.invalidateQueries({ queryKey: ["trial", trial] });
        void cache.invalidateQueries({ queryKey: ["now"] });
      }
      if (event.kind === "ended") {
        trialEnded(cache, comparison, trial);
        void cache.invalidateQueries({ queryKey: ["now"] });
      }
    };
    source.addEventListener("over", () => source.close());
    return () => {
      window.clearTimeout(timer);
      source.close();
    };
  }, [trial, comparison, cache]);
  return live;
}
