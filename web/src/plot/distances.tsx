/** How far numbers lie apart: pairs by power of ten of their relative distance, with the tolerance
 * drawn where it lies. */
import { scaleLinear } from "d3-scale";
import type { Schemas } from "../api/client";
import { count } from "../ui/units";

const LOW = -17;
const HIGH = 3;
const HEIGHT = 30;

export function distanceScale(width: number) {
  return scaleLinear([LOW, HIGH], [4, width - 4]).clamp(true);
}

/** The axis over a column of these plots. */
export function DistanceAxis({ width, relative }: { width: number; relative: number }) {
  const x = distanceScale(width);
  const at = relative > 0 ? Math.log10(relative) : null;
  return (
    <svg width={width} height={15} aria-hidden="true" className="axis">
      {[-16, -12, -8, -4, 0].map(
        (decade) =>
          (at === null || Math.abs(x(decade) - x(at)) > 30) && (
            <text key={decade} x={x(decade)} y={11} textAnchor="middle">
              {decade === 0 ? "1" : `1e${decade}`}
            </text>
          ),
      )}
      {at !== null && (
        <text x={x(at)} y={11} textAnchor="middle" className="target-word">
          {relative.toExponential(0).replace("e-", "e-")}
        </text>
      )}
    </svg>
  );
}

type Props = { distances: Schemas["ColumnDistances"]; width: number; relative: number };

export function Distances({ distances, width, relative }: Props) {
  const x = distanceScale(width);
  const within = Object.entries(distances.within).map(([d, n]) => [Number(d), n] as const);
  const beyond = Object.entries(distances.beyond).map(([d, n]) => [Number(d), n] as const);
  const most = Math.max(1, ...within.map(([, n]) => n), ...beyond.map(([, n]) => n));
  const high = (n: number) => 3 + ((HEIGHT - 5) * Math.log1p(n)) / Math.log1p(most);
  const bar = x(1) - x(0) - 1;
  const at = relative > 0 ? x(Math.log10(relative)) : null;
  const words = [...within, ...beyond]
    .map(([decade, n]) => `${count(n)} pairs about 1e${decade} apart`)
    .join(", ");
  return (
    <svg width={width} height={HEIGHT} role="img" aria-label={words || "no distances"}>
      <line x1={4} x2={width - 4} y1={HEIGHT - 0.5} y2={HEIGHT - 0.5} stroke="var(--line)" />
      {[["var(--ink-3)", within] as const, ["var(--bad)", beyond] as const].map(([fill, bars]) =>
        bars.map(([decade, n]) => (
          <rect
            key={`${fill}${decade}`}
            x={x(Math.min(decade, HIGH - 1))}
            width={bar}
            y={HEIGHT - high(n)}
            height={high(n)}
            fill={fill}
          >
            <title>{`${count(n)} pairs about 1e${decade} apart`}</title>
          </rect>
        )),
      )}
      {at !== null && (
        <line x1={at} x2={at} y1={0} y2={HEIGHT} stroke="var(--target)" strokeWidth={1.5} />
      )}
    </svg>
  );
}
