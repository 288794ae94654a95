/** What a sweep shows: panels, knobs that go together, ticks, laws. */
import assert from "node:assert/strict";
import test from "node:test";
import type { Schemas } from "../src/api/client";
import {
  apart,
  apartFrom,
  goingWith,
  lawAt,
  type Along,
  panels,
  panelWords,
  type SweepPoint,
  varied,
} from "../src/steps/sweep/data";

const at = (point: object) => ({ point, lanes: [] }) as unknown as SweepPoint;
const grid = [100, 10].flatMap((rows) =>
  ["warm", "cold"].map((cache) => at({ rows, cache, seed: 1 })),
);
const joint = [10, 100].flatMap((rows) =>
  ["warm", "cold"].map((cache) => at({ rows, width: rows / 10, cache })),
);

test("knobs of which several values ran", () => {
  assert.deepEqual(varied(grid), ["rows", "cache"]);
  assert.deepEqual(varied([]), []);
});

test("a panel for each choice of the rest, its points rising", () => {
  const found = panels(grid, ["rows"], []);
  assert.deepEqual(
    found.map((panel) => panelWords(panel.at)),
    ["cache warm", "cache cold"],
  );
  assert.deepEqual(
    found[0]?.points.map((p) => p.point.rows),
    [10, 100],
  );
});

test("what is found along a knob stands at its own panel", () => {
  const found = [{ knob: "rows", at: { cache: "cold" } }] as unknown as Along[];
  assert.deepEqual(
    panels(grid, ["rows"], found).map((p) => p.along),
    [undefined, found[0]],
  );
});

test("values that go together are one panel", () => {
  assert.deepEqual(goingWith(joint, "rows"), ["width"]);
  assert.deepEqual(apartFrom(joint, ["rows"]), ["cache"]);
  assert.equal(panels(joint, ["rows"], []).length, 2);
  assert.deepEqual(goingWith(grid, "rows"), []);
});

test("ticks that stand too near are left out, powers of ten last of all", () => {
  const kept = apart([1, 5, 8, 10], (tick) => 100 * Math.log10(tick), 30);
  assert.deepEqual(
    kept.sort((a, b) => a - b),
    [1, 5, 10],
  );
});

test("laws give what the core gives", () => {
  const law = (name: string, exponent = 1) =>
    ({ name, fixed: 2, factor: 3, exponent }) as unknown as Schemas["Law"];
  assert.equal(lawAt(law("constant"), 10), 2);
  assert.equal(lawAt(law("linear"), 10), 32);
  assert.equal(lawAt(law("quadratic"), 10), 302);
  assert.equal(lawAt(law("power", 3), 2), 26);
  assert.ok(Math.abs(lawAt(law("n log n"), 10) - (2 + 30 * Math.log(11))) < 1e-9);
});
