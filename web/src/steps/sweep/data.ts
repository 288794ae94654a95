/** What a sweep shows: measures, knobs that vary, points along one of them, spots of lanes. */
import type { Comparison, Schemas } from "../../api/client";
import { bytes, count, seconds } from "../../ui/units";

export const MEASURES = {
  elapsed: { word: "elapsed time", show: seconds },
  cpu_total: { word: "CPU time", show: seconds },
  peak_memory: { word: "peak memory", show: bytes },
  answer_bytes: { word: "size of the answer", show: bytes },
} as const;
export type Measure = keyof typeof MEASURES;

export type SweepPoint = Schemas["SweepPoint"];
export type Along = Schemas["SweepFindings"];
export type Lead = Schemas["Lead"];
export type Lanes = Comparison["lanes"];
export type Value = SweepPoint["point"][string] | undefined;

/** The points of one drawing, and what is found along its knob there. */
export type Panel = {
  /** Values of the knobs and conditions that stay the same in it, where several were run. */
  at: [string, Value][];
  points: SweepPoint[];
  along: Along | undefined;
};

/** A lane at a point: where it stands on the axis, its median with bounds, its single runs. */
export type Spot = {
  point: SweepPoint;
  x: number;
  value: number;
  low: number;
  high: number;
  runs: number[];
};

/** Knobs and conditions of which a trial ran several values. */
export function varied(points: SweepPoint[]): string[] {
  const names = Object.keys(points[0]?.point ?? {});
  return names.filter((name) => new Set(points.map((p) => p.point[name])).size > 1);
}

export function isNumeric(points: SweepPoint[], knob: string): boolean {
  return points.every((p) => typeof p.point[knob] === "number");
}

/** The different values of a knob, numbers rising. */
export function valuesOf(points: SweepPoint[], knob: string): Value[] {
  const found = [...new Set(points.map((p) => p.point[knob]))];
  return found.sort((a, b) => (typeof a === "number" && typeof b === "number" ? a - b : 0));
}

/** Knobs that go together with one: of each of its values there is one of theirs. */
export function goingWith(points: SweepPoint[], knob: string): string[] {
  const values = new Set(points.map((p) => p.point[knob])).size;
  return varied(points).filter((name) => {
    const pairs = new Set(points.map((p) => JSON.stringify([p.point[knob], p.point[name]])));
    return name !== knob && pairs.size === values;
  });
}

/** Points apart by what does not lie along an axis: a drawing for each choice of the rest. */
export function panels(points: SweepPoint[], axes: string[], found: Along[]): Panel[] {
  const rest = apartFrom(points, axes);
  const groups = new Map<string, Panel>();
  for (const point of points) {
    const at = rest.map((name): [string, Value] => [name, point.point[name]]);
    const key = JSON.stringify(at);
    const group = groups.get(key) ?? { at, points: [], along: undefined };
    group.points.push(point);
    groups.set(key, group);
  }
  const [knob] = axes;
  return [...groups.values()].map((panel) => ({
    ...panel,
    points: panel.points.toSorted((a, b) => order(a.point[knob ?? ""], b.point[knob ?? ""])),
    along: axes.length === 1 ? found.find((one) => fits(one, knob, panel)) : undefined,
  }));
}

/** The points of another trial that lie under a drawing, in its order. */
export function underOf(panel: Panel, points: SweepPoint[], knob: string): SweepPoint[] {
  return points
    .filter((one) => panel.at.every(([name, value]) => one.point[name] === value))
    .toSorted((a, b) => order(a.point[knob], b.point[knob]));
}

/** Knobs of which several values were run, but for some and for those that go together with one. */
export function apartFrom(points: SweepPoint[], axes: string[]): string[] {
  const together = axes.flatMap((axis) => goingWith(points, axis));
  return varied(points).filter((name) => !axes.includes(name) && !together.includes(name));
}

function order(a: Value, b: Value): number {
  return typeof a === "number" && typeof b === "number" ? a - b : 0;
}

function fits(one: Along, knob: string | undefined, panel: Panel): boolean {
  const point = panel.points[0]?.point ?? {};
  return (
    one.knob === knob && Object.entries(one.at).every(([name, value]) => point[name] === value)
  );
}

export function valueWords(value: Value): string {
  return typeof value === "number" ? count(value) : String(value);
}

export function panelWords(at: Panel["at"]): string {
  return at.map(([name, value]) => `${name} ${valueWords(value)}`).join(", ");
}

/** The middle of a measure of a lane at a point, with its bounds and single runs where it has any. */
export function seenAt(
  lane: SweepPoint["lanes"][number],
  measure: Measure,
): { median: number; low: number | null; high: number | null; runs: number[] } | null {
  if (measure === "answer_bytes") {
    const median = lane.answer_bytes;
    return median === null ? null : { median, low: null, high: null, runs: [] };
  }
  const summary = lane[measure];
  if (!summary) return null;
  const { median, low, high } = summary;
  return { median, low, high, runs: lane.dots.flatMap((dot) => dot[measure] ?? []) };
}

/** The lanes that have a run at one of the points. */
export function lanesAt(comparison: Comparison, points: SweepPoint[], off: Set<string>): Lanes {
  const ran = new Set(points.flatMap((p) => p.lanes.map((lane) => lane.id)));
  return comparison.lanes.filter((lane) => !off.has(lane.id) && ran.has(lane.id));
}

export function laneName(comparison: Comparison, id: string): string {
  return comparison.lanes.find((lane) => lane.id === id)?.name ?? id;
}

export function spots(points: SweepPoint[], lane: string, measure: Measure, knob: string): Spot[] {
  return points.flatMap((point, place) => {
    const found = point.lanes.find((l) => l.id === lane);
    const seen = found?.trusted ? seenAt(found, measure) : null;
    if (!seen) return [];
    const at = point.point[knob];
    const { median: value, runs } = seen;
    const [low, high] = [seen.low ?? value, seen.high ?? value];
    return [{ point, x: typeof at === "number" ? at : place, value, low, high, runs }];
  });
}

/** The address of a point's findings. */
export function findingsAt(comparison: number, trial: number, point: SweepPoint["point"]): string {
  const at = encodeURIComponent(JSON.stringify(point));
  return `/comparisons/${comparison}/findings?trial=${trial}&point=${at}`;
}

/** Ticks that stand far enough apart to be read, whole powers of ten before others. */
export function apart(ticks: number[], at: (tick: number) => number, gap: number): number[] {
  const kept: number[] = [];
  const whole = (t: number) => t > 0 && Math.abs(Math.log10(t) % 1) < 1e-9;
  for (const tick of [...ticks.filter(whole), ...ticks.filter((t) => !whole(t))]) {
    if (kept.every((other) => Math.abs(at(other) - at(tick)) >= gap)) kept.push(tick);
  }
  return kept;
}

/** What a law gives at a size; see the core's stats.growth. */
export function lawAt(law: Schemas["Law"], size: number): number {
  const grown = {
    constant: () => 0,
    logarithmic: () => Math.log(size + 1),
    linear: () => size,
    "n log n": () => size * Math.log(size + 1),
    quadratic: () => size ** 2,
    power: () => size ** law.exponent,
  }[law.name]();
  return law.fixed + law.factor * grown;
}
