/** The time axis that every step shares: logarithmic, over bands of patience. */
import { scaleLinear, scaleLog, type ScaleLinear, type ScaleLogarithmic } from "d3-scale";
import { PATIENCE } from "../api/facts";
import { shortSeconds } from "../ui/units";

export type Scale = ScaleLogarithmic<number, number> | ScaleLinear<number, number>;

/** Bounds of human patience in seconds, and what each stretch between them feels like. */
export const BANDS = PATIENCE.map(({ until, word }) => ({ until: until ?? Infinity, word }));

/** A log scale from the smallest to the largest time, with room at both ends. */
export function timeScale(times: number[], width: number, pad = 8): Scale {
  const known = times.filter((t) => t > 0 && Number.isFinite(t));
  let low = Math.min(...(known.length ? known : [0.01]));
  let high = Math.max(...(known.length ? known : [10]));
  low /= 1.25;
  high *= 1.25;
  if (high / low < 6) {
    const middle = Math.sqrt(low * high);
    low = middle / Math.sqrt(6);
    high = middle * Math.sqrt(6);
  }
  return scaleLog([low, high], [pad, width - pad]).clamp(true);
}

/** A linear scale from nought to the largest time. */
export function linearTimeScale(times: number[], width: number, pad = 8): Scale {
  const known = times.filter((t) => t > 0 && Number.isFinite(t));
  const high = Math.max(...(known.length ? known : [1])) * 1.06;
  return scaleLinear([0, high], [pad, width - pad]).clamp(true);
}

/** Ticks at 1, 2, 5 of each decade, thinned until they stand at least `gap` px apart. */
export function ticks(scale: Scale, gap = 46): number[] {
  const [low = 1, high = 10] = scale.domain();
  if (low <= 0) return scale.ticks(Math.max(2, Math.floor(Number(scale.range()[1]) / gap / 1.5)));
  for (const steps of [[1, 2, 5], [1, 3], [1]]) {
    const found: number[] = [];
    for (let e = Math.floor(Math.log10(low)); e <= Math.ceil(Math.log10(high)); e++) {
      for (const s of steps) {
        const value = s * 10 ** e;
        if (value >= low && value <= high) found.push(Number(value.toPrecision(3)));
      }
    }
    const apart = found.every((t, i) => !i || scale(t) - scale(found[i - 1] ?? t) >= gap);
    if (apart || steps.length === 1) return found;
  }
  return [];
}

/** Bands of patience as rectangles of a plot's full height. */
export function Bands({ scale, height, y = 0 }: { scale: Scale; height: number; y?: number }) {
  const [low = 0, high = 1] = scale.domain();
  const [left = 0, right = 0] = scale.range();
  return (
    <g aria-hidden="true">
      {BANDS.map((band, i) => {
        const from = Math.max(low, BANDS[i - 1]?.until ?? 0);
        const until = Math.min(high, band.until);
        if (from >= until) return null;
        const x0 = from === low ? left - 8 : scale(from);
        const x1 = until === high ? right + 8 : scale(until);
        return (
          <rect
            key={band.word}
            x={x0}
            y={y}
            width={x1 - x0}
            height={height}
            fill={`var(--band-${i})`}
          />
        );
      })}
    </g>
  );
}

/** Tick labels of the time axis. */
export function TimeTicks({ scale, y, gap }: { scale: Scale; y: number; gap?: number }) {
  return (
    <g className="axis" aria-hidden="true">
      {ticks(scale, gap).map((t) => (
        <g key={t} transform={`translate(${scale(t)},${y})`}>
          <line y1={0} y2={4} stroke="var(--ink-3)" />
          <text y={16} textAnchor="middle">
            {t ? shortSeconds(t) : "0"}
          </text>
        </g>
      ))}
    </g>
  );
}
