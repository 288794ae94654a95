/** A plan as it is written on the page, kept in the browser per comparison. */
import type { Comparison, Schemas, Trial } from "../api/client";
import { USUAL_PLAN } from "../api/facts";

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
  /** Interpreters of Python lanes, by name; "own" is each lane's own. */
  runtime: string[];
  calls: "once" | "several" | "repeated";
  callsPerProcess: number;
  shortestMs: number;
  knobs: Record<string, KnobValue[]>;
  /** Values of several knobs that go together, a point each. */
  points: Record<string, KnobValue>[];
  /** The order of sizes: mixed, from small to large leaving lanes behind that would break a limit,
   * or some of them and then a search for where the lead changes. */
  order: "mixed" | "up" | "search";
  within: number;
  searchMinutes: number;
  /** Runs disturbed for more than so much of their time, in percent, are done again: so many of
   * the planned ones, in percent, and for so many minutes. */
  disturbedShare: number;
  disturbedRepeat: number;
  disturbedMinutes: number;
  /** Whether the files that each lane's first run leaves stay in the result folder. */
  keepFiles: boolean;
};

const { until, search, limits, disturbed } = USUAL_PLAN;
const GIB = 2 ** 30;

const USUAL: PlanDraft = {
  rounds: USUAL_PLAN.rounds,
  untilSure: false,
  narrower: 100 * until.narrower_than,
  atMost: until.at_most,
  minutes: until.minutes,
  warmUps: USUAL_PLAN.warm_ups,
  seconds: limits.seconds,
  memoryGiB: limits.memory_bytes / GIB,
  cpuSeconds: limits.cpu_seconds,
  writtenGiB: limits.written_bytes / GIB,
  processes: limits.processes,
  cache: [...USUAL_PLAN.cache],
  threads: [...USUAL_PLAN.threads],
  cores: USUAL_PLAN.cores,
  background: [...USUAL_PLAN.background],
  runtime: [...USUAL_PLAN.runtime],
  calls: "once",
  callsPerProcess: 5,
  shortestMs: 50,
  knobs: {},
  points: [],
  order: "mixed",
  within: 100 * search.within,
  searchMinutes: search.minutes,
  disturbedShare: 100 * disturbed.share,
  disturbedRepeat: 100 * disturbed.repeat,
  disturbedMinutes: disturbed.minutes,
  keepFiles: USUAL_PLAN.keep_files,
};

const CALLS: PlanDraft["calls"][] = ["once", "several", "repeated"];

/** A plan that the comparison keeps by a name, as a draft. */
export function draftOf(plan: Schemas["Plan"]): PlanDraft {
  const { limits, until, search, disturbed } = plan;
  const calls =
    plan.calls_per_process > 1 ? "several" : plan.min_sample_s > 0 ? "repeated" : "once";
  return {
    ...USUAL,
    rounds: plan.rounds,
    untilSure: until !== null,
    ...(until && {
      narrower: 100 * until.narrower_than,
      atMost: until.at_most,
      minutes: until.minutes,
    }),
    warmUps: plan.warm_ups,
    seconds: limits.seconds,
    memoryGiB: limits.memory_bytes / GIB,
    cpuSeconds: limits.cpu_seconds,
    writtenGiB: limits.written_bytes / GIB,
    processes: limits.processes,
    cache: plan.cache,
    threads: plan.threads,
    cores: plan.cores,
    background: plan.background,
    runtime: plan.runtime,
    calls,
    ...(calls === "several" && { callsPerProcess: plan.calls_per_process }),
    ...(calls === "repeated" && { shortestMs: 1000 * plan.min_sample_s }),
    knobs: plan.knobs,
    points: plan.points,
    order: search ? "search" : plan.step_up ? "up" : "mixed",
    ...(search && { within: 100 * search.within, searchMinutes: search.minutes }),
    disturbedShare: 100 * disturbed.share,
    disturbedRepeat: 100 * disturbed.repeat,
    disturbedMinutes: disturbed.minutes,
    keepFiles: plan.keep_files,
  };
}

type Kept = { at?: string; knobs?: PlanDraft["knobs"] };

/** The plan as it stood here last, or as it was run last where that was later; with the knobs that
 * the comparison still has. */
export function keptPlan(comparison: Comparison, last: Trial | undefined): PlanDraft {
  const kept = here(comparison.id);
  const plan = last && last.created_at > (kept?.at ?? "") ? draftOf(last.plan) : kept;
  const knobs = Object.entries(plan?.knobs ?? {}).filter(([name]) => name in comparison.knobs);
  const points = plan?.points?.every((point) => namesOf(point, comparison)) ? plan.points : [];
  return { ...USUAL, ...plan, points, knobs: Object.fromEntries(knobs) };
}

function namesOf(point: Record<string, KnobValue>, comparison: Comparison): boolean {
  return Object.keys(point).every((name) => name in comparison.knobs);
}

/** The knobs whose values can go together: those of several, all as many. */
export function alike(plan: PlanDraft): string[] {
  const several = Object.entries(plan.knobs).filter(([, values]) => values.length > 1);
  const counts = new Set(several.map(([, values]) => values.length));
  const ranges = several.some(([, values]) => values.some((value) => sizesIn(value) !== null));
  return several.length > 1 && counts.size === 1 && !ranges ? several.map(([name]) => name) : [];
}

/** The same plan with the values of these knobs going together, the first with the first. */
export function together(plan: PlanDraft, names: string[]): Partial<PlanDraft> {
  const first = plan.knobs[names[0] ?? ""] ?? [];
  const rest = Object.entries(plan.knobs).filter(([name]) => !names.includes(name));
  const points = first.map((_, at) =>
    Object.fromEntries(names.map((name) => [name, plan.knobs[name]?.[at] ?? 0])),
  );
  return { points, knobs: Object.fromEntries(rest) };
}

function here(comparison: number): (Partial<PlanDraft> & Kept) | null {
  try {
    const text = localStorage.getItem(`ivrell-plan-${comparison}`);
    if (!text) return null;
    const kept = JSON.parse(text) as Partial<PlanDraft> & Kept;
    return { ...kept, calls: CALLS.find((calls) => calls === kept.calls) ?? "once" };
  } catch {
    return null;
  }
}

export function keepPlan(comparison: number, plan: PlanDraft) {
  const kept: PlanDraft & Kept = { ...plan, at: new Date().toISOString() };
  localStorage.setItem(`ivrell-plan-${comparison}`, JSON.stringify(kept));
}

const RANGE = /^([1-9][\d_]*)\.\.([1-9][\d_]*)\/([1-9]\d?)$/;

/** About how many sizes a range such as "1_000..1_000_000/3" stands for; null for no range. */
export function sizesIn(value: KnobValue): number | null {
  const given = typeof value === "string" ? RANGE.exec(value.replaceAll(" ", "")) : null;
  if (!given) return null;
  const [low, high] = [given[1], given[2]].map((text) => Number(text?.replaceAll("_", "")));
  if (!low || !high || high <= low) return null;
  return Math.round(Math.log10(high / low) * Number(given[3])) + 1;
}

/** Whether some knob goes over several sizes. */
export function steps(plan: PlanDraft): boolean {
  return Object.values(plan.knobs).some(
    (values) =>
      values.every((value) => typeof value === "number" || sizesIn(value) !== null) &&
      values.reduce<number>((n, value) => n + (sizesIn(value) ?? 1), 0) > 1,
  );
}

/** What was typed for a knob of numbers: a number, a range, or nothing that it can take. */
export function typedSize(value: KnobValue): KnobValue | null {
  if (typeof value !== "string") return value;
  const plain = value.replaceAll(/[ _,]/g, "");
  if (/^-?\d+(\.\d+)?$/.test(plain)) return Number(plain);
  return sizesIn(value) === null ? null : value.replaceAll(" ", "");
}

/** Values of a knob as they are typed in a row, with blanks or semicolons between. */
export function valuesTyped(text: string): KnobValue[] {
  const words = text.split(/[\s;]+/).filter(Boolean);
  return words.map((word) => typedSize(word) ?? word);
}

/** Choices of knobs and conditions that every lane runs at. */
export function points(plan: PlanDraft): number {
  const knobs = Object.values(plan.knobs).map((values) =>
    values.reduce<number>((n, value) => n + (sizesIn(value) ?? 1), 0),
  );
  const conditions = [plan.cache, plan.threads, plan.background, plan.runtime].map(
    (values) => values.length,
  );
  const given = [plan.points.length, ...knobs, ...conditions];
  return given.reduce((n, values) => n * Math.max(1, values), 1);
}

export function mostRounds(plan: PlanDraft): number {
  return plan.untilSure ? plan.atMost : plan.rounds;
}

/** The plan as the server takes it. */
export function asBody(plan: PlanDraft, approaches: string[] | null): Schemas["PlanRequest"] {
  const ordered = steps(plan) && !plan.untilSure;
  return {
    rounds: plan.rounds,
    until: plan.untilSure
      ? {
          narrower_than: plan.narrower / 100,
          at_least: Math.min(until.at_least, plan.atMost),
          at_most: plan.atMost,
          minutes: plan.minutes,
        }
      : null,
    warm_ups: plan.warmUps,
    approaches,
    knobs: plan.knobs,
    points: plan.points,
    step_up: plan.order === "up" && ordered,
    search:
      plan.order === "search" && ordered
        ? { within: plan.within / 100, minutes: plan.searchMinutes }
        : null,
    cache: plan.cache,
    threads: plan.threads,
    cores: plan.cores,
    background: plan.background,
    runtime: plan.runtime,
    calls_per_process: plan.calls === "several" ? plan.callsPerProcess : 1,
    min_sample_s: plan.calls === "repeated" ? plan.shortestMs / 1000 : 0,
    limits: {
      seconds: plan.seconds,
      memory_bytes: Math.round(plan.memoryGiB * GIB),
      cpu_seconds: plan.cpuSeconds,
      written_bytes: Math.round(plan.writtenGiB * GIB),
      processes: plan.processes,
    },
    disturbed: {
      share: plan.disturbedShare / 100,
      repeat: plan.disturbedRepeat / 100,
      minutes: plan.disturbedMinutes,
    },
    keep_files: plan.keepFiles,
    order_seed: crypto.getRandomValues(new Uint32Array(1))[0] ?? 1,
  };
}
