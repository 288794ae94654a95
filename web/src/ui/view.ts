/** What is looked at, kept in the address: trial, point, lane, run. */
import { useCallback, useSyncExternalStore } from "react";
import { useParams, useSearchParams } from "react-router";

export type View = {
  comparison: number;
  step: string;
  trial: number | null;
  point: string | null;
  lane: string | null;
  run: number | null;
  /** Which view of the findings: the board where it is null. */
  show: string | null;
  /** The lane that another is held against. */
  base: string | null;
  /** The board's columns, and the measures of the scatter's axes. */
  cols: string | null;
  x: string | null;
  y: string | null;
  set: (changes: Partial<Record<Part, string | number | null>>) => void;
};

type Part = "trial" | "point" | "lane" | "run" | "show" | "base" | "cols" | "x" | "y";

export function useView(): View {
  const { id, step } = useParams();
  const [search, setSearch] = useSearchParams();
  const number = (name: string) => {
    const value = Number(search.get(name));
    return search.get(name) && Number.isInteger(value) ? value : null;
  };
  const set = useCallback<View["set"]>(
    (changes) =>
      setSearch(
        (before) => {
          const after = new URLSearchParams(before);
          for (const [name, value] of Object.entries(changes)) {
            if (value === null) after.delete(name);
            else after.set(name, String(value));
          }
          return after;
        },
        { replace: true },
      ),
    [setSearch],
  );
  return {
    comparison: Number(id),
    step: step ?? "question",
    trial: number("trial"),
    point: search.get("point"),
    lane: search.get("lane"),
    run: number("run"),
    show: search.get("show"),
    base: search.get("base"),
    cols: search.get("cols"),
    x: search.get("x"),
    y: search.get("y"),
    set,
  };
}

const listeners = new Set<() => void>();

/** Lanes that are ticked off, kept for this comparison in this browser. */
export function useOff(comparison: number): [Set<string>, (lane: string, on: boolean) => void] {
  const key = `ivrell-off-${comparison}`;
  const kept = useSyncExternalStore(
    (listener) => {
      listeners.add(listener);
      return () => listeners.delete(listener);
    },
    () => localStorage.getItem(key) ?? "",
  );
  const off = new Set(kept.split(",").filter(Boolean));
  const tick = (lane: string, on: boolean) => {
    const next = new Set(off);
    if (on) next.delete(lane);
    else next.add(lane);
    localStorage.setItem(key, [...next].join(","));
    listeners.forEach((listener) => listener());
  };
  return [off, tick];
}
