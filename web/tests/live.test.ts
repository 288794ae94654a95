/** Events of a trial folded into what the live view shows. */
import assert from "node:assert/strict";
import test from "node:test";
import type { LiveEvent } from "../src/api/client";
import { fold } from "../src/steps/useLive";

const EMPTY = fold({} as Parameters<typeof fold>[0], "reset");
const seen = (...events: object[]) =>
  fold(EMPTY, { events: events as unknown as LiveEvent[], at: 5 });
const started = { kind: "run started", run: 1, approach: "a", round: 1, memory_run: false };
const progress = {
  kind: "progress",
  run: 1,
  elapsed_s: 0.4,
  cpu_s: 0.3,
  memory_bytes: 9,
  stage: "read",
  cores: [1, 0],
};
const ended = {
  kind: "run ended",
  run: 1,
  approach: "a",
  round: 1,
  memory_run: false,
  set_aside: false,
};

test("a run from its start to its end", () => {
  const going = seen({ kind: "data", table: "t" }, started, progress);
  assert.equal(going.making, null);
  assert.equal(going.running?.stage, "read");
  assert.deepEqual(going.running?.samples, [{ t: 0.4, cpu: 0.3, memory: 9 }]);
  assert.deepEqual(going.cores, [1, 0]);
  assert.equal(going.seen, 5);
  const done = seen(started, progress, ended);
  assert.equal(done.running, null);
  assert.equal(done.ended.length, 1);
  assert.equal(done.shadows.a?.length, 1);
});

test("an event that comes twice counts once", () => {
  assert.equal(seen(started, ended, ended).ended.length, 1);
});

test("progress of a run that has ended changes nothing", () => {
  assert.equal(seen(started, ended, progress).running, null);
});

test("memory runs are no runs of the rounds, and what is done again stands apart", () => {
  assert.equal(seen({ ...ended, memory_run: true }).ended.length, 0);
  const again = seen({ ...ended, set_aside: true }, { ...ended, set_aside: true });
  assert.deepEqual([again.ended.length, again.again.length], [0, 1]);
});

test("lanes that are out, and the end", () => {
  const over = seen({ kind: "lane out", approach: "b" }, started, { kind: "ended" });
  assert.deepEqual([...over.out], ["b"]);
  assert.ok(over.over);
  assert.equal(over.running, null);
});
