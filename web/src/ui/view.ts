/** What is looked at, kept in the address: trial, point, lane, run. */
import { useCallback, useMemo, useSyncExternalStore } from "react";
import { useParams, useSearchParams } from "react-router";

export type View = {
  comparison: number;
  step: string;
  trial: number | null;
  /** The trial that lies under the one in view. */
  under: number | null;
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
  /** Of a sweep: its measure, the knob along the axis, the one across it, values of the others,
   * the kinds of its axes, and whether what lies beyond is left out. */
  measure: string | null;
  /** Of a history: the lane that others are held against. */
  anchor: string | null;
  along: string | null;
  across: string | null;
  at: string | null;
  axes: string | null;
  ahead: string | null;
  /** Trials that stand side by side, by number. */
  beside: string | null;
  set: (changes: Partial<Record<Part, string | number | null>>) => void;
};

const TEXTS = [
  "point",
  "lane",
  "show",
  "base",
  "cols",
  "x",
  "y",
  "measure",
  "anchor",
  "along",
  "across",
  "at",
  "axes",
  "ahead",
  "beside",
] as const;
type Part = "trial" | "under" | "run" | (typeof TEXTS)[number];

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
    under: number("under"),
    run: number("run"),
    ...(Object.fromEntries(TEXTS.map((name) => [name, search.get(name)])) as Record<
      (typeof TEXTS)[number],
      string | null
    >),
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
  const off = useMemo(() => new Set(kept.split(",").filter(Boolean)), [kept]);
  const tick = (lane: string, on: boolean) => {
    // As it is kept now: several are ticked one behind the other.
    const next = new Set((localStorage.getItem(key) ?? "").split(",").filter(Boolean));
    if (on) next.delete(lane);
    else next.add(lane);
    localStorage.setItem(key, [...next].join(","));
    listeners.forEach((listener) => listener());
  };
  return [off, tick];
}
