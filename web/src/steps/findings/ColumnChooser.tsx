/** Choosing the board's columns: which, in what order, how wide, on which axis. */
import { ArrowDownOutlined, ArrowUpOutlined, CloseOutlined } from "@ant-design/icons";
import { Button, Drawer, Segmented, Select } from "antd";
import type { BoardColumn, Findings } from "../../api/client";
import { allColumns } from "../../lanes/columns";

type Props = {
  findings: Findings;
  columns: BoardColumn[];
  onColumns: (columns: BoardColumn[]) => void;
  onUsual: () => void;
  onClose: () => void;
};

export function ColumnChooser({ findings, columns, onColumns, onUsual, onClose }: Props) {
  const all = allColumns(findings);
  const known = new Map(all.map((column) => [column.key, column]));
  const left = all.filter((column) => !columns.some((chosen) => chosen.key === column.key));
  const move = (from: number, to: number) => {
    const next = [...columns];
    const [moved] = next.splice(from, 1);
    if (moved) next.splice(to, 0, moved);
    onColumns(next);
  };
  const change = (key: string, part: Partial<BoardColumn>) =>
    onColumns(columns.map((column) => (column.key === key ? { ...column, ...part } : column)));
  const groups = [
    { label: "Measures", of: left.filter((column) => !column.key.startsWith("counter.")) },
    { label: "Counted by engines", of: left.filter((c) => c.key.startsWith("counter.")) },
  ];
  return (
    <Drawer open mask={false} size={460} onClose={onClose} title="Columns of the board">
      <div className="chooser">
        <ol>
          {columns.map((chosen, i) => {
            const column = known.get(chosen.key);
            const label = column?.label ?? chosen.key;
            return (
              <li key={chosen.key} data-testid={`column-${chosen.key}`}>
                <span className="grow" title={column?.how}>
                  {label.replace(/^counter\./, "")}
                  {!column && <span className="small faint"> (no lane tells it here)</span>}
                </span>
                {column?.scaled && column.key !== "code_lines" && (
                  <Segmented
                    size="small"
                    aria-label={`Axis of ${label}`}
                    options={["linear", "log"]}
                    value={(chosen.log ?? column.log) ? "log" : "linear"}
                    onChange={(axis) => change(chosen.key, { log: axis === "log" })}
                  />
                )}
                <Button
                  size="small"
                  type="text"
                  icon={<ArrowUpOutlined />}
                  disabled={i === 0}
                  aria-label={`${label} further left`}
                  onClick={() => move(i, i - 1)}
                />
                <Button
                  size="small"
                  type="text"
                  icon={<ArrowDownOutlined />}
                  disabled={i === columns.length - 1}
                  aria-label={`${label} further right`}
                  onClick={() => move(i, i + 1)}
                />
                <Button
                  size="small"
                  type="text"
                  icon={<CloseOutlined />}
                  aria-label={`Without ${label}`}
                  onClick={() => onColumns(columns.filter((c) => c.key !== chosen.key))}
                />
              </li>
            );
          })}
        </ol>
        <Select
          className="add-column"
          showSearch
          value={null}
          placeholder="Add a column"
          aria-label="Add a column"
          optionFilterProp="label"
          options={groups
            .filter((group) => group.of.length)
            .map((group) => ({
              label: group.label,
              options: group.of.map((column) => ({
                value: column.key,
                label: column.label,
                title: column.how,
              })),
            }))}
          onChange={(key: string | null) =>
            key && onColumns([...columns, { key, width: null, log: null }])
          }
        />
        <p className="small faint">
          Widths are set at the right edge of each heading. The choice is kept with the comparison
          and stands in the address.
        </p>
        <Button size="small" onClick={onUsual}>
          The usual columns
        </Button>
      </div>
    </Drawer>
  );
}
