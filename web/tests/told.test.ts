/** Figures, ratios, columns and cells as they are told. */
import assert from "node:assert/strict";
import test from "node:test";
import { asMarkdown } from "../src/ui/download";
import type { Ratio } from "../src/api/client";
import type { Findings } from "../src/api/client";
import { asAddress, chosenColumns, fromAddress } from "../src/lanes/columns";
import { aboutRatio, shortRatio, toldRatio } from "../src/lanes/ratio";
import { isAt, meant, written } from "../src/steps/data/editing";
import { diffLines } from "../src/ui/diff";
import { asCsv } from "../src/ui/download";
import {
  bytes,
  chosenBytes,
  figures,
  plural,
  pointWords,
  readBytes,
  readSeconds,
  seconds,
  shortSeconds,
  trimmed,
} from "../src/ui/units";

const ratio = (fields: object) =>
  ({
    value: 2,
    low: 1.8,
    high: 2.2,
    verdict: "faster",
    bound: false,
    question: "baseline",
    rounds_more: null,
    ...fields,
  }) as unknown as Ratio;

test("three figures, which may carry into another", () => {
  assert.equal(figures(0.9996), "1.00");
  assert.equal(figures(1234.5), "1,235");
  assert.equal(figures(Number.NaN), "–");
  assert.equal(figures(0), "0");
});

test("times and sizes in the unit that fits", () => {
  assert.equal(seconds(0.0413), "41.3 ms");
  assert.equal(seconds(0.9999), "1.00 s");
  assert.equal(seconds(600), "10.0 min");
  assert.equal(seconds(null), "–");
  assert.equal(bytes(999_960), "1.00 MB");
  assert.equal(bytes(512), "512 B");
  assert.equal(bytes(0.8), "0.800 B");
  assert.equal(chosenBytes(300 * 2 ** 20), "300 MiB");
  assert.equal(chosenBytes(5 * 10 ** 8), "500 MB");
  assert.equal(shortSeconds(0.25), "250 ms");
  assert.equal(trimmed("10.0 min"), "10 min");
});

test("what a person writes for a time or a size", () => {
  assert.equal(readSeconds("250 ms"), 0.25);
  assert.equal(readSeconds("2"), 2);
  assert.equal(readSeconds("soon"), null);
  assert.equal(readBytes("1 GiB"), 2 ** 30);
  assert.equal(readBytes("1 furlong"), null);
});

test("words of numbers and points", () => {
  assert.equal(plural(1, "run"), "1 run");
  assert.equal(plural(2000, "run"), "2,000 runs");
  assert.equal(pointWords({ rows: 1000, cache: "warm" }), "rows = 1,000, cache = warm");
});

test("a ratio stands the way round that its verdict says", () => {
  assert.equal(shortRatio(ratio({})), "2.00× faster");
  const slower = toldRatio(ratio({ value: 0.25, low: 0.2, high: 0.5, verdict: "slower" }));
  assert.deepEqual(slower, { factor: "4.00×", verdict: "slower", span: "2.0 to 5.0" });
  const equal = toldRatio(ratio({ value: 1.02, low: 0.9, high: 1.1, verdict: "not told apart" }));
  assert.deepEqual(equal, { factor: null, verdict: "not told apart", span: "0.90 to 1.1" });
  assert.equal(shortRatio(ratio({ bound: true, value: 42, verdict: "slower" })).slice(0, 1), "≥");
  assert.match(aboutRatio(ratio({ rounds_more: 3 })), /95 %; about 3 more rounds would tell/);
});

test("columns in an address come back, and one that was cut is left out", () => {
  const columns = [
    { key: "counter.rows, read", width: 120, log: true },
    { key: "elapsed", width: null, log: null },
    { key: "cpu", width: null, log: false },
  ];
  assert.deepEqual(fromAddress(asAddress(columns)), columns);
  assert.equal(fromAddress("a%E0%A4%A").length, 1);
  const heading = {
    label: "",
    how: "",
    note: "",
    unit: "",
    drawing: "bar",
    measure: true,
  } as const;
  const headings = [
    { ...heading, key: "elapsed", usual: true },
    { ...heading, key: "start", usual: false },
  ];
  const findings = { board: { headings, rows: [] }, measures: [] } as unknown as Findings;
  assert.deepEqual(chosenColumns(findings, null, columns), columns);
  assert.deepEqual(
    chosenColumns(findings, "", []).map((column) => column.key),
    ["elapsed"],
  );
});

test("cells of a file of commas", () => {
  assert.equal(
    asCsv(
      ["a", "b"],
      [
        ['say "no"', 1.5],
        [null, "x,y"],
      ],
    ),
    'a,b\r\n"say ""no""",1.5\r\n,"x,y"\r\n',
  );
});

test("what is typed into a field of a recipe", () => {
  assert.deepEqual(meant("list", "Ash, Elm"), ["Ash", "Elm"]);
  assert.deepEqual(meant("list", '[{"a": 1}]'), [{ a: 1 }]);
  assert.deepEqual(meant("numbers", "1, 2.5"), [1, 2.5]);
  assert.equal(meant("numbers", "1, two"), "1, two");
  assert.equal(meant("number", "1_000"), 1000);
  assert.equal(meant("number", "{rows}"), "{rows}");
  assert.equal(meant("flag", "true"), true);
  assert.equal(meant("text", "12"), "12");
  assert.equal(written([1, 2]), "1, 2");
  assert.equal(written("2026-01-01T00:00:00"), "2026-01-01");
});

test("what is wrong stands at its field", () => {
  const edit = { table: "t", column: 1, fields: { low: 5 } } as unknown as Parameters<
    typeof isAt
  >[0];
  assert.ok(isAt(edit, "t", 1, "low"));
  assert.ok(!isAt(edit, "t", 2, "low"));
  assert.ok(!isAt(null, "t", 1, "low"));
});

test("lines that came and went", () => {
  assert.deepEqual(diffLines("a\nb\nc", "a\nB\nc\nd"), { added: 2, removed: 1 });
  assert.deepEqual(diffLines("a", "a"), { added: 0, removed: 0 });
});

test("a table of Markdown keeps its columns whatever stands in a cell", () => {
  assert.equal(
    asMarkdown(["a", "b|c"], [["x\ny", null]]),
    "| a | b\\|c |\n|---|---|\n| x y |  |\n",
  );
});
