/** All rows of a table to scroll through, however many: only those in sight are held. */
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Button, InputNumber, Select } from "antd";
import { useEffect, useRef, useState } from "react";
import { api, taken, type LookTable } from "../../api/client";
import { count } from "../../ui/units";

const LINE = 21;
const BAR = 200_000;
const PAGE = 60;

type Props = { comparison: number; text: string; tables: LookTable[] };

export function RowsView({ comparison, text, tables }: Props) {
  const [name, setName] = useState<string | null>(null);
  const table = tables.find((one) => one.table === name) ?? tables[tables.length - 1];
  if (!table) return null;
  return (
    <div className="rows-view">
      <Select
        size="small"
        value={table.table}
        aria-label="Table to look at"
        options={tables.map((one) => ({ value: one.table, label: one.table }))}
        onChange={setName}
      />
      <Scroll key={table.table} comparison={comparison} text={text} table={table} />
    </div>
  );
}

function Scroll({
  comparison,
  text,
  table,
}: {
  comparison: number;
  text: string;
  table: LookTable;
}) {
  const box = useRef<HTMLDivElement>(null);
  const bar = useRef<HTMLDivElement>(null);
  const [height, setHeight] = useState(400);
  const [wanted, setFirst] = useState(0);
  const seen = Math.max(1, Math.floor(height / LINE) - 1);
  const last = Math.max(0, table.rows - seen);
  const first = Math.min(Math.max(0, Math.round(wanted)), last);
  const page = Math.floor(first / PAGE) * PAGE;
  const rows = useQuery({
    queryKey: ["rows", comparison, table.fingerprint, table.table, page, seen],
    queryFn: () =>
      taken(
        api.POST("/api/comparisons/{comparison}/data/rows/", {
          params: { path: { comparison } },
          body: { data_text: text, knobs: {}, table: table.table, first: page, count: PAGE + seen },
        }),
      ),
    placeholderData: keepPreviousData,
    retry: false,
  });
  useEffect(() => {
    const element = box.current;
    if (!element) return;
    const measure = new ResizeObserver(() => setHeight(element.clientHeight));
    measure.observe(element);
    const wheel = (event: WheelEvent) => {
      if (Math.abs(event.deltaY) <= Math.abs(event.deltaX)) return;
      event.preventDefault();
      setFirst((now) => Math.min(Math.max(0, now + event.deltaY / LINE), last));
    };
    element.addEventListener("wheel", wheel, { passive: false });
    return () => {
      measure.disconnect();
      element.removeEventListener("wheel", wheel);
    };
  }, [last]);
  useEffect(() => {
    const element = bar.current;
    if (!element || last === 0) return;
    const top = (first / last) * (element.scrollHeight - element.clientHeight);
    if (Math.abs(element.scrollTop - top) > 1) element.scrollTop = top;
  }, [first, last]);
  // Until the rows asked for are there, those shown before stay in sight.
  const there = rows.data?.first === page;
  const from = there ? first : (rows.data?.first ?? first);
  const held = rows.data?.rows.slice(there ? first - page : 0) ?? [];
  const keys: Record<string, number> = {
    ArrowDown: first + 1,
    ArrowUp: first - 1,
    PageDown: first + seen,
    PageUp: first - seen,
    Home: 0,
    End: last,
  };
  return (
    <>
      <div className="row rows-tools">
        <Button size="small" onClick={() => setFirst(0)}>
          head
        </Button>
        <Button size="small" onClick={() => setFirst(last / 2)}>
          middle
        </Button>
        <Button size="small" onClick={() => setFirst(Math.random() * last)}>
          anywhere
        </Button>
        <Button size="small" onClick={() => setFirst(last)}>
          tail
        </Button>
        <span className="small quiet">row</span>
        <InputNumber
          size="small"
          controls={false}
          min={1}
          max={table.rows}
          value={first + 1}
          aria-label="Go to row"
          data-testid="go-to-row"
          formatter={(value) => count(Number(value))}
          parser={(value) => Number((value ?? "").replace(/[^0-9]/g, ""))}
          onChange={(value) => value && setFirst(value - 1)}
        />
        <span className="small faint nowrap">of {count(table.rows)}</span>
      </div>
      <div className="rows-box">
        <div
          ref={box}
          className="rows-scroll"
          tabIndex={0}
          role="region"
          aria-label={`Rows of ${table.table}`}
          data-testid="rows-region"
          onKeyDown={(event) => {
            const next = keys[event.key];
            if (next === undefined) return;
            event.preventDefault();
            setFirst(next);
          }}
        >
          <table className="plain mono">
            <thead>
              <tr>
                <th className="number">row</th>
                {table.columns.map((column) => (
                  <th key={column.name}>{column.name}</th>
                ))}
              </tr>
            </thead>
            <tbody className={rows.isPlaceholderData ? "waiting" : ""}>
              {held.slice(0, seen).map((row, i) => (
                <tr key={from + i}>
                  <td className="number faint">{count(from + i + 1)}</td>
                  {row.map((value, c) => (
                    <td key={table.columns[c]?.name ?? c}>
                      {value ?? <span className="faint">null</span>}
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
        </div>
        <div
          ref={bar}
          className="rows-bar"
          aria-hidden
          onScroll={(event) => {
            const element = event.currentTarget;
            const at = element.scrollTop / (element.scrollHeight - element.clientHeight);
            const now = Math.round(at * last);
            if (Math.abs(now - first) > last / BAR + 1) setFirst(now);
          }}
        >
          <div style={{ height: Math.min(table.rows * LINE, BAR) }} />
        </div>
      </div>
    </>
  );
}
