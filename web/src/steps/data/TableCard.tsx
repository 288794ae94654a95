/** A table: how many rows in which order, its columns, and what each form of it takes. */
import { DeleteOutlined, PlusOutlined } from "@ant-design/icons";
import { Button, Select } from "antd";
import type { LookTable, Schemas } from "../../api/client";
import { InlineField } from "../../ui/InlineField";
import { bytes, count, seconds, trimmed } from "../../ui/units";
import { ColumnLine } from "./ColumnLine";
import { isAt, meant, written, type Editing } from "./editing";

/** A name that a new table starts with. */
const UNNAMED = /^table\d+$/;

type Props = { table: LookTable; costs: Schemas["Cost"][] | undefined; editing: Editing };

export function TableCard({ table, costs, editing }: Props) {
  const set = (fields: Record<string, unknown>) => editing.apply({ table: table.table, fields });
  const onTable =
    editing.pending?.table === table.table && (editing.pending.column ?? null) === null
      ? editing.problem
      : null;
  const renaming = editing.pending?.table === table.table && editing.pending.rename != null;
  const share = (name: "duplicate_share" | "malformed_share") => (
    <InlineField
      value={written(table[name])}
      label={`${table.table}, ${name.replace("_", " ")}`}
      id={`set-${table.table}-${name}`}
      numeric
      wrong={isAt(editing.pending, table.table, null, name) ? onTable?.what : undefined}
      onTyping={(text) =>
        editing.tryOut(
          text === null ? null : { table: table.table, fields: { [name]: meant("number", text) } },
        )
      }
      onTake={(text) => set({ [name]: meant("number", text) || null })}
    />
  );
  const orders = [
    { value: "", label: "in order" },
    { value: "shuffled", label: "shuffled" },
    ...table.columns
      .filter(({ kind }) => editing.kinds.find((known) => known.kind === kind)?.sortable)
      .map((column) => ({ value: `by ${column.name}`, label: `sorted by ${column.name}` })),
  ];
  return (
    <section className="table-card" data-testid={`table-${table.table}`}>
      <div className="row">
        <h2>
          <InlineField
            value={table.table}
            label={`Name of the table ${table.table}`}
            id={`name-${table.table}`}
            wrong={renaming ? editing.problem?.what : undefined}
            onTyping={(text) =>
              editing.tryOut(text === null ? null : { table: table.table, rename: text.trim() })
            }
            onTake={(text) => editing.apply({ table: table.table, rename: text.trim() })}
          />
        </h2>
        {UNNAMED.test(table.table) && <span className="small faint nowrap">name it</span>}
        <span className="quiet nowrap" data-testid={`rows-of-${table.table}`}>
          {typeof table.rows_given === "number" ? (
            <InlineField
              value={count(table.rows)}
              label={`${table.table}, rows`}
              numeric
              wrong={isAt(editing.pending, table.table, null, "rows") ? onTable?.what : undefined}
              onTyping={(text) =>
                editing.tryOut(
                  text === null
                    ? null
                    : { table: table.table, fields: { rows: meant("integer", text) } },
                )
              }
              onTake={(text) => set({ rows: meant("integer", text) })}
            />
          ) : (
            count(table.rows)
          )}{" "}
          rows
        </span>
        {table.file ? (
          <span className="small quiet cut" title={table.file}>
            the file {table.file.split("/").pop()}, as it is
            {table.read_as && `; read as: ${table.read_as}`}
          </span>
        ) : (
          <Select
            size="small"
            variant="borderless"
            className="inline-choice"
            suffixIcon={null}
            popupMatchSelectWidth={false}
            aria-label={`${table.table}, order`}
            value={table.order ?? ""}
            options={orders}
            onChange={(order) => set({ order: order || null })}
          />
        )}
        <span className="grow" />
        <span className="small faint" title={table.fingerprint}>
          fingerprint {table.fingerprint.slice(0, 8)}
        </span>
        {editing.takeOut && (
          <Button
            size="small"
            type="text"
            icon={<DeleteOutlined />}
            aria-label={`Take the table ${table.table} out`}
            data-testid={`remove-${table.table}`}
            onClick={() => editing.takeOut?.(table.table)}
          />
        )}
      </div>
      <div className="columns">
        {table.columns.map((column, place) => (
          <ColumnLine
            key={`${place} ${column.name}`}
            table={table}
            column={column}
            place={place}
            editing={editing}
          />
        ))}
      </div>
      {!table.file && (
        <div className="table-foot small quiet">
          <Button
            size="small"
            type="text"
            icon={<PlusOutlined />}
            data-testid={`add-column-${table.table}`}
            onClick={() =>
              editing.apply({
                table: table.table,
                add: true,
                fields: { name: fresh(table), kind: "integer", low: 1, high: 100 },
              })
            }
          >
            column
          </Button>
          <span>
            rows repeated {share("duplicate_share")}
            {table.duplicates > 0 && ` (${count(table.duplicates)})`}
          </span>
          <span>
            lines broken on purpose {share("malformed_share")}
            {table.malformed > 0 && ` (${count(table.malformed)})`}
          </span>
        </div>
      )}
      {onTable && (
        <div className="small bad" role="alert">
          {onTable.what} {onTable.hint}
        </div>
      )}
      <div className="small quiet forms" title="size on disk, and time to make it on one core">
        {costs?.map((cost) => (
          <span key={cost.form} className={cost.measured ? "real" : ""}>
            <strong>{cost.form}</strong>{" "}
            {cost.measured
              ? `${bytes(cost.bytes)}, ${seconds(cost.seconds)}`
              : `≈ ${trimmed(bytes(rough(cost.bytes)))}, ${trimmed(seconds(rough(cost.seconds)))}`}
          </span>
        ))}
      </div>
    </section>
  );
}

function fresh(table: LookTable): string {
  const taken = new Set(table.columns.map((column) => column.name));
  let number = table.columns.length + 1;
  while (taken.has(`column${number}`)) number++;
  return `column${number}`;
}

/** An estimate without figures that it cannot bear. */
function rough(value: number): number {
  return Number(value.toPrecision(2));
}
