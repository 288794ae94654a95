/** The plan as it is written on the page. */
import assert from "node:assert/strict";
import test from "node:test";
import type { Comparison, Trial } from "../src/api/client";
import { USUAL_PLAN } from "../src/api/facts";
import {
  alike,
  asBody,
  draftOf,
  keepPlan,
  keptPlan,
  points,
  sizesIn,
  steps,
  together,
  typedSize,
  valuesTyped,
} from "../src/steps/plan";

const kept = new Map<string, string>();
globalThis.localStorage = {
  getItem: (key: string) => kept.get(key) ?? null,
  setItem: (key: string, value: string) => void kept.set(key, value),
} as unknown as Storage;

const USUAL = { ...USUAL_PLAN, until: null, search: null, approaches: null, own_files: null };
const plan = (fields: object) =>
  draftOf({ ...USUAL, knobs: {}, points: [], ...fields } as unknown as Parameters<
    typeof draftOf
  >[0]);
const comparison = { id: 7, knobs: { rows: [10], width: [1] } } as unknown as Comparison;

test("a plan of the server comes back as it was", () => {
  const given = {
    rounds: 7,
    warm_ups: 2,
    knobs: { rows: [10, 20] },
    cache: ["cold"],
    keep_files: true,
    disturbed: { ...USUAL_PLAN.disturbed, share: 0.25, minutes: 3 },
    limits: { ...USUAL_PLAN.limits, seconds: 9, cpu_seconds: 4 },
  };
  const body = asBody(plan(given), ["a"]);
  for (const name of ["rounds", "warm_ups", "knobs", "cache", "keep_files"] as const)
    assert.deepEqual(body[name], given[name]);
  assert.equal(body.disturbed?.share, 0.25);
  assert.equal(body.disturbed?.minutes, 3);
  assert.equal(body.limits?.cpu_seconds, 4);
  assert.equal(body.limits?.memory_bytes, USUAL_PLAN.limits.memory_bytes);
  assert.deepEqual(body.approaches, ["a"]);
  assert.equal(body.until, null);
});

test("each launch has an order of its own", () => {
  const seeds = new Set(Array.from({ length: 5 }, () => asBody(plan({}), null).order_seed));
  assert.ok(seeds.size > 1);
});

test("ways to call an approach leave each other alone", () => {
  assert.equal(asBody(plan({ calls_per_process: 4 }), null).calls_per_process, 4);
  const repeated = asBody(plan({ min_sample_s: 0.05 }), null);
  assert.deepEqual([repeated.calls_per_process, repeated.min_sample_s], [1, 0.05]);
  assert.equal(asBody(plan({}), null).min_sample_s, 0);
});

test("an order of sizes needs sizes", () => {
  const up = plan({ step_up: true, knobs: { rows: [10, 20] } });
  assert.equal(asBody(up, null).step_up, true);
  assert.equal(asBody({ ...up, knobs: { rows: [10] } }, null).step_up, false);
  assert.equal(asBody({ ...up, untilSure: true }, null).step_up, false);
});

test("ranges of sizes, and what is none", () => {
  assert.equal(sizesIn("1_000..1_000_000/3"), 10);
  assert.equal(sizesIn("10 .. 1000/1"), 3);
  for (const text of ["1..", "100..10/3", "0..5/2", "a..b/3", 12])
    assert.equal(sizesIn(text), null);
});

test("what is typed for a knob of numbers", () => {
  assert.equal(typedSize("1,000"), 1000);
  assert.equal(typedSize("1_000..10_000/2"), "1_000..10_000/2");
  assert.equal(typedSize("many"), null);
  assert.equal(typedSize(5), 5);
  assert.deepEqual(valuesTyped("1,000 20_000;oak"), [1000, 20000, "oak"]);
});

test("points are counted with ranges and conditions", () => {
  const draft = plan({
    knobs: { rows: ["10..1000/1", 5], word: ["x", "y"] },
    cache: ["warm", "cold"],
  });
  assert.equal(points(draft), 4 * 2 * 2);
  assert.ok(steps(draft));
  assert.ok(!steps(plan({ knobs: { word: ["x", "y"] } })));
});

test("values of several knobs go together", () => {
  const draft = plan({ knobs: { rows: [10, 20], width: [1, 2], word: ["x"] } });
  assert.deepEqual(alike(draft), ["rows", "width"]);
  const part = together(draft, ["rows", "width"]);
  assert.deepEqual(part.points, [
    { rows: 10, width: 1 },
    { rows: 20, width: 2 },
  ]);
  assert.deepEqual(part.knobs, { word: ["x"] });
  assert.deepEqual(alike(plan({ knobs: { rows: [10, 20], width: [1, 2, 3] } })), []);
});

test("what stood here last, or was run last, with the knobs that there are", () => {
  keepPlan(7, plan({ rounds: 3, knobs: { rows: [10], gone: [1] } }));
  assert.equal(keptPlan(comparison, undefined).rounds, 3);
  assert.deepEqual(keptPlan(comparison, undefined).knobs, { rows: [10] });
  const later = {
    created_at: "2999-01-01T00:00:00Z",
    plan: { ...USUAL, rounds: 9, knobs: {}, points: [] },
  };
  assert.equal(keptPlan(comparison, later as unknown as Trial).rounds, 9);
  kept.set("ivrell-plan-7", "no JSON");
  assert.equal(keptPlan(comparison, undefined).rounds, USUAL_PLAN.rounds);
});
