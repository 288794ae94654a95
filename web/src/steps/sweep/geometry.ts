/** The room that a drawing over one knob has, and its scales. */
import { scaleLinear, scaleLog } from "d3-scale";
import type { Along, Spot } from "./data";

export const PAD = { left: 64, top: 26, bottom: 58 };
/** Room for names at the right. */
export const NAMES = 168;
export const RIBBON = 9;
export const RESIDUALS = 74;

export type Drawn = { id: string; name: string; place: number; spots: Spot[] };
export type Growth = Along["growths"][number];

export type Scale = {
  (value: number): number;
  ticks: (n?: number) => number[];
  invert: (at: number) => number;
};

/** A scale over two values, with room around one that stands alone; what lies beyond
 * (on a logarithmic one nought too) stands at its end. */
export function scale(
  kind: "log" | "linear",
  [low, high]: [number, number],
  range: [number, number],
) {
  const logarithmic = kind === "log" && low > 0;
  const made = logarithmic ? scaleLog() : scaleLinear();
  const only = low === high;
  return made
    .domain(only ? [low / 1.5, high * 1.5] : [low, high])
    .range(range)
    .clamp(true) as Scale;
}
