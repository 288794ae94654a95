/** What can be claimed of a finding. */
import assert from "node:assert/strict";
import test from "node:test";
import type { Comparison, Findings } from "../src/api/client";
import {
  alike,
  asserted,
  claim,
  claimsFound,
  crossingsFound,
  strengths,
} from "../src/steps/findings/claims";
import type { Lead } from "../src/steps/sweep/data";

test("a strength is rounded so that what was found lies within", () => {
  const found = { low: 3.14, high: 4.22 };
  assert.deepEqual(strengths(found), ["direction", "factor", "range"]);
  assert.deepEqual(asserted("factor", found, "faster").keys, { at_least: 3.1 });
  assert.deepEqual(asserted("range", found, "less").keys, { between: [3.1, 4.3] });
  assert.equal(asserted("range", found, "less").said, "3.1 to 4.3 times less");
  assert.deepEqual(asserted("factor", { low: 1234, high: 2000 }, "less").keys, { at_least: 1200 });
  assert.deepEqual(asserted("direction", found, "faster"), { keys: {}, said: "faster" });
});

test("near 1, or without an interval, only the direction can be claimed", () => {
  assert.deepEqual(strengths({ low: 1.04, high: 1.2 }), ["direction"]);
  assert.deepEqual(strengths({ low: null, high: null }), ["direction"]);
});

const lane = (id: string, low: number, high: number, more = {}) => ({
  id,
  name: id.toUpperCase(),
  state: "done",
  elapsed: { low, high },
  agreement: { agrees: true },
  ...more,
});
const found = (...lanes: ReturnType<typeof lane>[]) =>
  ({
    point: { rows: 5 },
    conditions: ["rows 5", "2 cores"],
    ranking: lanes.map((one) => one.id),
    lanes,
  }) as unknown as Findings;
const comparison = (elapsed: number | null) => ({ targets: { elapsed } }) as unknown as Comparison;

test("an order is offered where medians lie apart, and targets that are surely met", () => {
  const three = found(lane("a", 1, 1.1), lane("b", 2, 2.2), lane("c", 3, 3.3));
  const [order, first, second, ...none] = claimsFound(comparison(2.5), three);
  assert.deepEqual(order?.order, ["a", "b", "c"]);
  assert.deepEqual(order?.where, { rows: 5 });
  assert.equal(order?.conditions, "2 cores");
  assert.deepEqual([first?.lane, second?.lane, none.length], ["a", "b", 0]);
  const near = found(lane("a", 1, 2.1), lane("b", 2, 2.2), lane("c", 3, 3.3));
  assert.deepEqual(claimsFound(comparison(null), near), []);
  const wrong = found(
    lane("a", 1, 1.1, { agreement: { agrees: false } }),
    lane("b", 2, 2.2),
    lane("c", 3, 3.3),
  );
  assert.deepEqual(claimsFound(comparison(null), wrong), []);
});

test("a crossing with bounds can be claimed", () => {
  const lead = {
    measure: "elapsed",
    crossings: [
      { before: "a", after: "b", at: 4700, low: 4312, high: 5204 },
      { before: "b", after: "c", at: 9000, low: null, high: 9900 },
    ],
  } as unknown as Lead;
  const [first, ...none] = crossingsFound(lead, "rows", { cache: "warm" }, (id) => id);
  assert.deepEqual(first?.crossing, { knob: "rows", low: 4300, high: 5300 });
  assert.deepEqual([first?.lower, first?.higher, none.length], ["b", "a", 0]);
});

test("claims of the same lanes are alike whatever their numbers", () => {
  const one = claim({ text: "x", lower: "a", higher: "b", at_least: 3 });
  assert.ok(alike(one, { ...one, at_least: 4, text: "y" }));
  assert.ok(!alike(one, { ...one, higher: "c" }));
});
