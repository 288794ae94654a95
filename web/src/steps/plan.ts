/** A plan as it is written on the page, kept in the browser per comparison. */
import type { Schemas } from "../api/client";

export type KnobValue = string | number | boolean;

export type PlanDraft = {
  rounds: number;
  untilSure: boolean;
  narrower: number;
  atMost: number;
  minutes: number;
  warmUps: number;
  seconds: number;
  memoryGiB: number;
  cpuSeconds: number | null;
  writtenGiB: number;
  processes: number;
  cache: ("warm" | "cold")[];
  threads: (number | null)[];
  cores: number | null;
  background: string[];
  calls: "once" | "kept" | "repeated";
  kept: number;
  shortestMs: number;
  knobs: Record<string, KnobValue[]>;
};

const USUAL: PlanDraft = {
  rounds: 5,
  untilSure: false,
  narrower: 10,
  atMost: 30,
  minutes: 30,
  warmUps: 1,
  seconds: 120,
  memoryGiB: 4,
  cpuSeconds: null,
  writtenGiB: 8,
  processes: 256,
  cache: ["warm"],
  threads: [null],
  cores: null,
  background: ["quiet"],
  calls: "once",
  kept: 5,
  shortestMs: 50,
  knobs: {},
};

const AT_LEAST = 5;

export function keptPlan(comparison: number): PlanDraft {
  try {
    const text = localStorage.getItem(`ivrell-plan-${comparison}`);
    return text ? { ...USUAL, ...(JSON.parse(text) as PlanDraft), knobs: {} } : USUAL;
  } catch {
    return USUAL;
  }
}

export function keepPlan(comparison: number, plan: PlanDraft) {
  localStorage.setItem(`ivrell-plan-${comparison}`, JSON.stringify(plan));
}

/** Choices of knobs and conditions that every lane runs at. */
export function points(plan: PlanDraft): number {
  const knobs = Object.values(plan.knobs).map((values) => values.length);
  const conditions = [plan.cache.length, plan.threads.length, plan.background.length];
  return [...knobs, ...conditions].reduce((n, values) => n * Math.max(1, values), 1);
}

export function mostRounds(plan: PlanDraft): number {
  return plan.untilSure ? plan.atMost : plan.rounds;
}

/** The plan as the server takes it. */
export function asBody(plan: PlanDraft, lanes: string[] | null): Schemas["PlanRequest"] {
  return {
    rounds: plan.rounds,
    until: plan.untilSure
      ? {
          narrower_than: plan.narrower / 100,
          at_least: Math.min(AT_LEAST, plan.atMost),
          at_most: plan.atMost,
          minutes: plan.minutes,
        }
      : null,
    warm_ups: plan.warmUps,
    lanes,
    knobs: plan.knobs,
    cache: plan.cache,
    threads: plan.threads,
    cores: plan.cores,
    background: plan.background,
    calls_per_process: plan.calls === "kept" ? plan.kept : 1,
    min_sample_s: plan.calls === "repeated" ? plan.shortestMs / 1000 : 0,
    limits: {
      seconds: plan.seconds,
      memory_bytes: Math.round(plan.memoryGiB * 2 ** 30),
      cpu_seconds: plan.cpuSeconds,
      written_bytes: Math.round(plan.writtenGiB * 2 ** 30),
      processes: plan.processes,
    },
    order_seed: crypto.getRandomValues(new Uint32Array(1))[0] ?? 1,
  };
}
