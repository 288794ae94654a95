/** A formula in which columns of tables stand as coloured names; a click opens it for editing. */
import { Input } from "antd";
import { useState } from "react";

type Props = {
  value: string;
  label: string;
  /** Names of the tables, in the order of their colours. */
  tables: string[];
  onTake: (value: string) => void;
  /** The character that is wrong, from 0. */
  wrong?: number | null;
  id?: string;
};

const REFERENCE = /(\{[A-Za-z_]\w*(?:\.[A-Za-z_]\w*)?\})/;

/** A table's tint, the same wherever it is named; the own row and cells have none. */
export function tint(table: string, tables: string[]): string | undefined {
  const at = tables.indexOf(table);
  return at < 0 ? undefined : `var(--tint-${at % 5})`;
}

export function Formula({ text, tables }: { text: string; tables: string[] }) {
  return (
    <>
      {text.split(REFERENCE).map((piece, i) => {
        if (i % 2 === 0) return <span key={i}>{piece}</span>;
        const [table = "", column] = piece.slice(1, -1).split(".");
        const own = table === "row" || table === "answer" || table === "cells";
        return (
          <span
            key={i}
            className={`reference ${own ? "own" : ""}`}
            style={{ backgroundColor: tint(table, tables) }}
            title={own ? WORDS[table] : column ? `the whole column of ${table}` : "the whole table"}
          >
            {table === "row" ? column : column ? `${table}.${column}` : table}
          </span>
        );
      })}
    </>
  );
}

const WORDS: Record<string, string> = {
  row: "the cell of this column on the formula’s own row",
  answer: "the whole column of the answer sheet",
  cells: "a single cell",
};

export function FormulaField({ value, label, tables, onTake, wrong = null, id }: Props) {
  const [draft, setDraft] = useState<string | null>(null);
  const take = () => {
    if (draft !== null && draft.trim() && draft !== value) onTake(draft.trim());
    setDraft(null);
  };
  if (draft === null) {
    return (
      <button
        className="text formula mono"
        aria-label={label}
        data-testid={id}
        onClick={() => setDraft(value)}
      >
        {wrong === null ? (
          <Formula text={value} tables={tables} />
        ) : (
          <>
            {value.slice(0, wrong)}
            <mark className="wrong-character">{value.slice(wrong, wrong + 1) || " "}</mark>
            {value.slice(wrong + 1)}
          </>
        )}
      </button>
    );
  }
  return (
    <Input.TextArea
      className="mono"
      value={draft}
      aria-label={label}
      autoFocus
      autoSize
      spellCheck={false}
      onChange={(event) => setDraft(event.target.value)}
      onBlur={take}
      onKeyDown={(event) => {
        if (event.key === "Escape") setDraft(null);
        if (event.key === "Enter" && !event.shiftKey) {
          event.preventDefault();
          take();
        }
      }}
    />
  );
}
