/** The data: each table's columns with their drawn profile, how much of it, and the recipe. */
import { useQuery } from "@tanstack/react-query";
import { InputNumber, Segmented, Slider } from "antd";
import { useEffect, useRef, useState } from "react";
import { api, taken, type Comparison, type PreviewTable, type Problem } from "../api/client";
import { changes, useChange } from "../api/queries";
import type { StepProps } from "../frame/ComparisonPage";
import { CodeEditor } from "../ui/CodeEditor";
import { Trouble } from "../ui/Trouble";
import { bytes, count, seconds, trimmed } from "../ui/units";
import { Profile } from "./Profile";

const PREVIEW_AFTER_MS = 350;

/** A value that follows another once it has been still for a while. */
function useSettled<T>(value: T, after: number): T {
  const [settled, setSettled] = useState(value);
  useEffect(() => {
    const timer = window.setTimeout(() => setSettled(value), after);
    return () => window.clearTimeout(timer);
  }, [value, after]);
  return settled;
}

export default function DataStep({ comparison, trial }: StepProps) {
  const change = useChange(comparison.id, { quiet: true });
  const [draft, setDraft] = useState<string | null>(null);
  const [side, setSide] = useState<"rows" | "recipe">("recipe");
  const text = useSettled(draft ?? comparison.data_text, PREVIEW_AFTER_MS);
  const preview = useQuery({
    queryKey: ["preview", comparison.id, text, comparison.knobs],
    queryFn: () =>
      taken(
        api.POST("/api/comparisons/{id}/preview/", {
          params: { path: { id: comparison.id } },
          body: { data_text: text },
        }),
      ),
    placeholderData: (before) => before,
    retry: false,
  });
  const good = preview.isSuccess && !preview.isPlaceholderData;
  const save = change.mutate;
  useEffect(() => {
    if (good && draft !== null && text === draft && draft !== comparison.data_text) {
      save(changes.recipe(draft), { onSuccess: () => setDraft(null) });
    }
  }, [good, draft, text, comparison.data_text, save]);
  const wrong = preview.error as Problem | null;
  const line = lineIn(text, wrong);
  const state =
    draft === null || draft === comparison.data_text
      ? "saved"
      : wrong
        ? "not saved: see below"
        : "saving";
  return (
    <div className="data">
      <div className="data-tables">
        <Rows comparison={comparison} />
        {preview.data?.tables.map((table) => (
          <TableCard key={table.table} table={table} trial={trial} />
        ))}
      </div>
      <div className="data-side">
        <div className="row">
          <Segmented
            size="small"
            value={side}
            onChange={(next) => setSide(next as "rows" | "recipe")}
            options={[
              { value: "recipe", label: "Recipe" },
              { value: "rows", label: "Rows" },
            ]}
          />
          <span className="small faint grow" data-testid="recipe-state">
            {side === "recipe" ? state : "as they will be made"}
          </span>
          {preview.data && <span className="small faint">seed {preview.data.seed}</span>}
        </div>
        {side === "recipe" ? (
          <>
            <div className="editor-box">
              <CodeEditor
                id="recipe"
                label="Recipe"
                language="toml"
                value={draft ?? comparison.data_text}
                onChange={setDraft}
                wrong={line}
              />
            </div>
            <Trouble error={wrong ?? change.error} id="recipe-problem" />
          </>
        ) : (
          preview.data?.tables.map((table) => <SomeRows key={table.table} table={table} />)
        )}
      </div>
    </div>
  );
}

/** The line of the recipe's own text that a problem speaks of, found by its last key. */
function lineIn(text: string, problem: Problem | null): number | null {
  if (!problem) return null;
  const direct = /^line (\d+)$/.exec(problem.where);
  if (direct) return Number(direct[1]);
  const table = /data\.tables\.(\w+)/.exec(problem.where)?.[1];
  const column = /columns\[(\d+)\]/.exec(problem.where)?.[1];
  if (!table) return null;
  const lines = text.split("\n");
  const start = lines.findIndex((line) => line.includes(`[data.tables.${table}]`));
  if (start < 0) return null;
  if (column === undefined) return start + 1;
  let seen = -1;
  for (let i = start + 1; i < lines.length; i++) {
    if (/\bname\s*=/.test(lines[i] ?? "") && ++seen === Number(column)) return i + 1;
  }
  return start + 1;
}

const LOWEST = 2;
const HIGHEST = 8;

/** Rows on a logarithmic slider with the exact number, for each knob that sets rows. */
function Rows({ comparison }: { comparison: Comparison }) {
  const change = useChange(comparison.id);
  const knobs = Object.entries(comparison.knobs).filter(
    ([knob, values]) =>
      comparison.data_text.includes(`"{${knob}}"`) && typeof values[0] === "number",
  );
  return (
    <>
      {knobs.map(([knob, values]) => (
        <RowsKnob
          key={`${knob} ${values[0]}`}
          knob={knob}
          value={Number(values[0])}
          onTake={(rows) =>
            change.mutate(
              changes.settings({
                knobs: { [knob]: [rows, ...values.filter((v, i) => i > 0 && v !== rows)] },
              }),
            )
          }
        />
      ))}
    </>
  );
}

function RowsKnob(props: { knob: string; value: number; onTake: (rows: number) => void }) {
  const { knob, value, onTake } = props;
  const [rows, setRows] = useState(value);
  const settle = (next: number) => {
    if (next !== value && next >= 1) onTake(next);
  };
  const typed = useRef(value);
  return (
    <div className="rows-knob">
      <span className="mono">{knob}</span>
      <Slider
        min={LOWEST}
        max={HIGHEST}
        step={0.05}
        value={Math.log10(rows)}
        tooltip={{ formatter: (v) => count(rounded(10 ** (v ?? 0))) }}
        onChange={(v) => setRows(rounded(10 ** v))}
        onChangeComplete={(v) => settle(rounded(10 ** v))}
        marks={Object.fromEntries(
          [2, 3, 4, 5, 6, 7, 8].map((e) => [e, e < 6 ? count(10 ** e) : `${10 ** (e - 6)} M`]),
        )}
        ariaLabelForHandle={`${knob}, logarithmic`}
      />
      <InputNumber
        value={rows}
        min={1}
        max={1e10}
        precision={0}
        controls={false}
        aria-label={`${knob}, exact number`}
        data-testid={`rows-${knob}`}
        formatter={(v) => (v ? count(Number(v)) : "")}
        parser={(text) => Number((text ?? "").replace(/[^0-9]/g, ""))}
        onChange={(v) => {
          typed.current = Number(v ?? value);
        }}
        onBlur={() => {
          setRows(typed.current);
          settle(typed.current);
        }}
        onPressEnter={() => {
          setRows(typed.current);
          settle(typed.current);
        }}
      />
    </div>
  );
}

function rounded(rows: number): number {
  const unit = 10 ** Math.max(0, Math.floor(Math.log10(rows)) - 1);
  return Math.round(rows / unit) * unit;
}

function TableCard({ table, trial }: { table: PreviewTable; trial: StepProps["trial"] }) {
  const made = (form: string) =>
    trial?.data.find((m) => m.fingerprint === table.fingerprint && m.form === form);
  return (
    <section className="table-card" data-testid={`table-${table.table}`}>
      <div className="row">
        <h2>{table.table}</h2>
        <span className="quiet nowrap" data-testid={`rows-of-${table.table}`}>
          {count(table.rows)} rows
        </span>
        {table.order && <span className="small quiet">{orderWords(table.order)}</span>}
        {table.duplicates > 0 && (
          <span className="small quiet">{count(table.duplicates)} repeated</span>
        )}
        {table.malformed > 0 && (
          <span className="small caution">{count(table.malformed)} lines broken on purpose</span>
        )}
        <span className="grow" />
        <span className="small faint" title={table.fingerprint}>
          fingerprint {table.fingerprint.slice(0, 8)}
        </span>
      </div>
      <div className="columns">
        {table.columns.map((column) => (
          <div key={column.name} className="column">
            <span className="mono name cut" title={column.name}>
              {column.name}
            </span>
            <span className="kind">
              <strong>{column.kind}</strong> <span className="quiet">{column.settings}</span>
            </span>
            <Profile profile={column.profile} />
          </div>
        ))}
      </div>
      <div className="small quiet forms" title="size on disk, and time to make it">
        {Object.entries(table.forms).map(([form, cost]) => {
          const real = made(form);
          return (
            <span key={form} className={real ? "real" : ""}>
              <strong>{form}</strong>{" "}
              {real
                ? `${bytes(real.size_bytes)}, ${seconds(real.seconds)}`
                : `≈ ${trimmed(bytes(rough(cost.bytes)))}, ${trimmed(seconds(rough(cost.seconds)))}`}
            </span>
          );
        })}
      </div>
    </section>
  );
}

/** An estimate without figures that it cannot bear. */
function rough(value: number): number {
  return Number(value.toPrecision(2));
}

function orderWords(order: string): string {
  return order === "shuffled" ? "shuffled" : `sorted ${order}`;
}

function SomeRows({ table }: { table: PreviewTable }) {
  return (
    <section className="some-rows">
      <h3>{table.table}</h3>
      <div className="scroll">
        <table className="plain mono">
          <thead>
            <tr>
              <th className="number">row</th>
              {table.columns.map((column) => (
                <th key={column.name}>{column.name}</th>
              ))}
            </tr>
          </thead>
          <tbody>
            {table.parts.map((part, p) => [
              p > 0 && (
                <tr key={`gap-${part.first}`} className="gap">
                  <td colSpan={table.columns.length + 1}>…</td>
                </tr>
              ),
              ...part.rows.map((row, i) => (
                <tr key={part.first + i}>
                  <td className="number faint">{count(part.first + i + 1)}</td>
                  {row.map((value, c) => (
                    <td key={table.columns[c]?.name}>
                      {value ?? <span className="faint">null</span>}
                    </td>
                  ))}
                </tr>
              )),
            ])}
          </tbody>
        </table>
      </div>
    </section>
  );
}
