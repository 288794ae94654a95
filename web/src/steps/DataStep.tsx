/** The data: each table's columns with their drawn profile, how much of it, and the recipe. */
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { App, Button, InputNumber, Segmented, Slider } from "antd";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { api, taken, type Comparison, type Edit, type Problem } from "../api/client";
import { changes, useChange } from "../api/queries";
import type { StepProps } from "./props";
import { CodeEditor } from "../ui/editors";
import { Opening } from "../ui/Opening";
import { Trouble } from "../ui/Trouble";
import { count } from "../ui/units";
import { useUndo } from "../ui/useUndo";
import type { Editing, Kinds } from "./data/editing";
import { MakeView } from "./data/MakeView";
import { RowsView } from "./data/RowsView";
import { SampleView } from "./data/SampleView";
import { TableCard } from "./data/TableCard";

const LOOK_AFTER_MS = 350;
const COSTS_AFTER_MS = 900;

/** A value that follows another once it has been still for a while. */
function useSettled<T>(value: T, after: number): T {
  const [settled, setSettled] = useState(value);
  useEffect(() => {
    const timer = window.setTimeout(() => setSettled(value), after);
    return () => window.clearTimeout(timer);
  }, [value, after]);
  return settled;
}

type Side = "recipe" | "rows" | "make" | "sample";

export default function DataStep({ comparison }: StepProps) {
  const change = useChange(comparison.id, { quiet: true });
  const undo = useUndo();
  const { message } = App.useApp();
  const [draft, setDraft] = useState<string | null>(null);
  const [changed, setChanged] = useState<string | null>(null);
  const [pending, setPending] = useState<Edit | null>(null);
  const [side, setSide] = useState<Side>("recipe");
  const current = draft ?? comparison.data_text;
  const settled = useSettled(current, LOOK_AFTER_MS);
  // What is kept and what a change of a field made is looked at at once; what is typed, once it is
  // still.
  const text = draft === null || changed === current ? current : settled;
  const where = { params: { path: { comparison: comparison.id } } };
  const look = useQuery({
    queryKey: ["look", comparison.id, text, pending, comparison.knobs],
    queryFn: () =>
      taken(
        api.POST("/api/comparisons/{comparison}/data/look/", {
          ...where,
          body: { data_text: text, knobs: {}, edits: pending ? [pending] : [] },
        }),
      ),
    placeholderData: keepPreviousData,
    retry: false,
  });
  const good = look.isSuccess && !look.isPlaceholderData && pending === null;
  // What was last good stays in sight, and in its fields, while something is being mended.
  const [shown, setShown] = useState(look.data);
  if (look.data && look.data !== shown) setShown(look.data);
  const save = change.mutate;
  useEffect(() => {
    if (good && draft !== null && text === draft && draft !== comparison.data_text) {
      save(changes.recipe(draft), {
        onSuccess: () => setDraft((now) => (now === draft ? null : now)),
      });
    }
  }, [good, draft, text, comparison.data_text, save]);
  const still = useSettled(text, COSTS_AFTER_MS);
  const costs = useQuery({
    queryKey: ["costs", comparison.id, still, comparison.knobs],
    queryFn: () =>
      taken(
        api.POST("/api/comparisons/{comparison}/data/costs/", {
          ...where,
          body: { data_text: still, knobs: {} },
        }),
      ),
    placeholderData: keepPreviousData,
    retry: false,
  });
  const sample = useQuery({
    queryKey: ["sample", comparison.id],
    queryFn: async () =>
      (await taken(api.GET("/api/comparisons/{comparison}/data/sample/", where))) || null,
  });
  const kinds = useQuery({
    queryKey: ["kinds"],
    queryFn: () => taken(api.GET("/api/kinds/")),
    staleTime: Infinity,
  });
  // Each change is put into the text by the server, one behind the other.
  const chain = useRef(Promise.resolve());
  const newest = useRef(current);
  useEffect(() => {
    newest.current = current;
  }, [current]);
  const [refused, setRefused] = useState<{ edit: Edit; problem: Problem } | null>(null);
  const id = comparison.id;
  const apply = useCallback(
    (edit: Edit, then?: (text: string) => void) => {
      chain.current = chain.current.then(async () => {
        try {
          const answer = await taken(
            api.POST("/api/comparisons/{comparison}/data/look/", {
              params: { path: { comparison: id } },
              body: { data_text: newest.current, knobs: {}, edits: [edit] },
            }),
          );
          newest.current = answer.data_text;
          setDraft(answer.data_text);
          setChanged(answer.data_text);
          setPending(null);
          setRefused(null);
          then?.(answer.data_text);
        } catch (problem) {
          setRefused({ edit, problem: problem as Problem });
        }
      });
    },
    [id],
  );
  const wrong = look.error as Problem | null;
  const references = useMemo(
    () =>
      (shown?.tables ?? []).flatMap((table) =>
        table.columns.map((column) => `${table.table}.${column.name}`),
      ),
    [shown],
  );
  const editing: Editing = {
    kinds: (kinds.data?.kinds ?? []) as Kinds,
    tryOut: (edit) => {
      setRefused(null);
      setPending(edit);
    },
    apply,
    pending: pending ?? refused?.edit ?? null,
    problem: pending ? wrong : (refused?.problem ?? null),
    references,
    takeOut:
      (shown?.tables.length ?? 0) > 1
        ? (table) => {
            const before = newest.current;
            apply({ table, remove: true }, (after) =>
              undo(`table-${table}`, `The table “${table}” is taken out.`, () => {
                // Nothing that was written since is to be lost for it.
                if (newest.current.trim() === after.trim()) setDraft(before);
                else void message.info("The recipe was changed since; write the table anew.");
              }),
            );
          }
        : null,
  };
  const line = pending ? null : lineIn(text, wrong);
  const state =
    draft === null || draft === comparison.data_text
      ? "saved"
      : wrong
        ? "not saved: see below"
        : "saving";
  const words: Record<Side, string> = {
    recipe: state,
    rows: "as they will be made",
    make: "ahead of a trial",
    sample: "what it was shaped after",
  };
  return (
    <div className="data">
      <div className="data-tables">
        <Rows comparison={comparison} />
        {!shown && look.isPending && <Opening what="the tables" />}
        {shown?.tables.map((table) => (
          <TableCard
            key={table.table}
            table={table}
            costs={costs.data?.tables.find((one) => one.table === table.table)?.forms}
            editing={editing}
          />
        ))}
        <Button
          size="small"
          type="text"
          data-testid="add-table"
          onClick={() => apply({ table: fresh(shown?.tables ?? []), add: true, fields: {} })}
        >
          + table
        </Button>
      </div>
      <div className="data-side">
        <div className="row">
          <Segmented
            size="small"
            value={side}
            onChange={setSide}
            options={[
              { value: "recipe", label: "Recipe" },
              { value: "rows", label: "Rows" },
              { value: "make", label: "Make" },
              ...(sample.data ? [{ value: "sample" as const, label: "Sample" }] : []),
            ]}
          />
          <span className="small faint grow" data-testid="recipe-state">
            {words[side]}
          </span>
          {shown && <span className="small faint">seed {shown.seed}</span>}
        </div>
        {side === "recipe" && (
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
            <Trouble error={pending ? null : (wrong ?? change.error)} id="recipe-problem" />
          </>
        )}
        {side === "rows" && shown && <RowsView comparison={id} text={text} tables={shown.tables} />}
        {side === "make" && shown && (
          <MakeView comparison={id} tables={shown.tables} costs={costs.data} />
        )}
        {side === "sample" && sample.data && <SampleView sample={sample.data} />}
      </div>
    </div>
  );
}

/** A name that no table has yet. */
function fresh(tables: { table: string }[]): string {
  let number = tables.length + 1;
  while (tables.some(({ table }) => table === `table${number}`)) number++;
  return `table${number}`;
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
