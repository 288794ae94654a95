/** An answer sheet as it stands: its columns with their formulas and layouts, a sketch of the cells
 * that hold them, and the first rows of the last try. */
import { CloseOutlined, PlusOutlined } from "@ant-design/icons";
import { Button, Select } from "antd";
import type { Comparison, Lane, Schemas } from "../../api/client";
import { changes, useChange } from "../../api/queries";
import { laneColour } from "../../lanes/mark";
import { Editable } from "../../ui/Editable";
import { Formula, FormulaField, tint } from "../../ui/FormulaField";
import { Trouble } from "../../ui/Trouble";
import { count, plural, seconds } from "../../ui/units";

type Column = Schemas["Column"];
type Layout = Column["layout"];

const LAYOUTS: { value: Layout; label: string }[] = [
  { value: "rows", label: "a formula in each row" },
  { value: "helper", label: "a helper, left out" },
  { value: "array", label: "one array formula" },
  { value: "cell", label: "a single cell" },
];
const PARTS: Record<string, string> = {
  bring: "bring in",
  fill: "write",
  calculate: "calculate",
  change: "calculate after a change",
  read: "read",
  save: "save",
};
const SHOWN_ROWS = 8;

type Props = {
  comparison: Comparison;
  lane: Lane;
  tried: Schemas["TryShape"] | null | undefined;
};

export function SheetEditor({ comparison, lane, tried }: Props) {
  const change = useChange(comparison.id, { quiet: true });
  const sheet = lane.sheet;
  if (!sheet) return <p className="quiet">The tables cannot be laid out; see the step Data.</p>;
  const put = (columns: Schemas["ColumnRequest"][]) =>
    change.mutate(changes.lane(lane.id, { columns }));
  const set = (at: number, part: Partial<Column>) =>
    put(sheet.columns.map((column, i) => (i === at ? { ...column, ...part } : column)));
  const add = () => {
    const taken = new Set(sheet.columns.map((column) => column.name));
    let number = sheet.columns.length + 1;
    while (taken.has(`column${number}`)) number++;
    const first = comparison.columns[sheet.rows_of]?.[0];
    const formula = first ? `={row.${first}}` : "=1";
    const layout = sheet.columns.find((c) => c.layout !== "helper")?.layout ?? "rows";
    put([...sheet.columns, { name: `column${number}`, formula, layout }]);
  };
  const answers = (name: string): (string | null)[] => {
    const at = tried?.columns.findIndex((column) => column.name === name) ?? -1;
    return at < 0 ? [] : (tried?.rows.slice(0, SHOWN_ROWS).map((row) => row[at] ?? null) ?? []);
  };
  return (
    <div className="sheet-editor" data-testid="sheet-editor">
      <p className="small quiet">
        Beside {sheet.rows_of}, {plural(sheet.rows, "row")}; tables come in{" "}
        {lane.input === "arrow" ? "cell by cell" : `as the engine reads ${lane.input}`}. Timed:{" "}
        {sheet.timed.map((part) => PARTS[part] ?? part).join(", ")}.
        {sheet.sorted.length > 0 &&
          ` ${sheet.sorted.join(", ")} sorted beforehand: another task than unsorted keys.`}
        {sheet.random && " Random: its answers differ each time, and are compared by statistics."}
      </p>
      {!lane.problem && <Cost sheet={sheet} tried={tried} />}
      {sheet.cells.length > 0 && (
        <div className="sheet-cells">
          {sheet.cells.map((cell) => (
            <span key={String(cell.name)} className="sheet-cell mono">
              <strong>{String(cell.name)}</strong>{" "}
              <Formula text={String(cell.formula || cell.value || "")} tables={comparison.tables} />
            </span>
          ))}
        </div>
      )}
      <div className="sheet-columns">
        {sheet.columns.map((column, at) => (
          <section
            key={column.name}
            className={`sheet-column ${column.layout} ${sheet.wrong_name === column.name ? "wrong" : ""}`}
          >
            <header>
              <Editable
                label={`Name of column ${at + 1}`}
                value={column.name}
                wrong={(text) =>
                  /^[A-Za-z_]\w*$/.test(text) ? "" : "Letters, digits and _ only, a letter first."
                }
                onTake={(name) => set(at, { name })}
              />
              <Button
                size="small"
                type="text"
                icon={<CloseOutlined />}
                aria-label={`Remove ${column.name}`}
                disabled={sheet.columns.length === 1}
                onClick={() => put(sheet.columns.filter((_, i) => i !== at))}
              />
            </header>
            <Select
              size="small"
              value={column.layout}
              aria-label={`Layout of ${column.name}`}
              options={LAYOUTS}
              popupMatchSelectWidth={false}
              onChange={(layout) => set(at, { layout })}
            />
            <FormulaField
              value={column.formula}
              label={`Formula of ${column.name}`}
              id={`formula-${column.name}`}
              wrong={sheet.wrong_name === column.name ? sheet.wrong_at : null}
              tables={comparison.tables}
              onTake={(formula) => set(at, { formula })}
            />
            <div className="sheet-values">
              <Sketch layout={column.layout} colour={laneColour(comparison.marks[lane.id] ?? 0)} />
              <div className="mono small">
                {answers(column.name).map((value, i) => (
                  <div key={i} className="cut">
                    {value ?? <span className="faint">nothing</span>}
                  </div>
                ))}
                {column.layout === "helper" && <div className="faint">not in the answer</div>}
                {column.layout !== "helper" && !tried && <div className="faint">try it</div>}
              </div>
            </div>
          </section>
        ))}
        <Button size="small" icon={<PlusOutlined />} data-testid="add-column" onClick={add}>
          Add a column
        </Button>
      </div>
      <Trouble error={change.error} id="sheet-problem" />
      <p className="small quiet legend">
        {comparison.tables.map((table) => (
          <span key={table}>
            <span className="reference" style={{ backgroundColor: tint(table, comparison.tables) }}>
              {table}
            </span>{" "}
            {comparison.columns[table]?.join(", ")}
          </span>
        ))}
        <span>
          <span className="reference own">name</span> on the own row, written {"{row.name}"}
        </span>
      </p>
    </div>
  );
}

/** How many cells hold formulas, and a guess of the time from the last try. */
function Cost({ sheet, tried }: { sheet: NonNullable<Lane["sheet"]>; tried: Props["tried"] }) {
  const cells = tried?.counters["formula cells"];
  const guess =
    cells && tried?.elapsed_s
      ? Math.max(tried.elapsed_s * (sheet.formula_cells / cells), sheet.scan_s)
      : null;
  return (
    <p className="small">
      <strong>{count(sheet.formula_cells)}</strong>{" "}
      {sheet.formula_cells === 1 ? "cell holds" : "cells hold"} a formula
      {guess !== null && `; about ${seconds(guess)} at that size, guessed from the last try`}.
      {sheet.words && <span className="caution"> {sheet.words}</span>}
    </p>
  );
}

/** Which cells of a column hold a formula. */
function Sketch({ layout, colour }: { layout: Layout; colour: string }) {
  const rows = [0, 1, 2, 3, 4, 5];
  const words = LAYOUTS.find((l) => l.value === layout)?.label ?? layout;
  return (
    <svg width={22} height={66} role="img" aria-label={words}>
      {rows.map((row) => (
        <rect
          key={row}
          x={0.5}
          y={row * 11 + 0.5}
          width={20}
          height={10}
          fill="none"
          stroke="var(--line)"
        />
      ))}
      {layout === "array" && (
        <rect x={3} y={3} width={15} height={60} fill={colour} opacity={0.75} />
      )}
      {layout === "cell" && <rect x={3} y={3} width={15} height={5} fill={colour} opacity={0.75} />}
      {(layout === "rows" || layout === "helper") &&
        rows.map((row) => (
          <rect
            key={row}
            x={3}
            y={row * 11 + 3}
            width={15}
            height={5}
            fill={layout === "rows" ? colour : "none"}
            stroke={layout === "helper" ? colour : "none"}
            opacity={0.75}
          />
        ))}
    </svg>
  );
}
