/** CPU and memory over the time of one run, with its stages, over the shadow of another. */
import { max } from "d3-array";
import { scaleLinear } from "d3-scale";
import { area, curveStepAfter, line } from "d3-shape";
import { bytes, figures, shortSeconds } from "../ui/units";

/** CPU used and memory held so many seconds after the start of a run. */
export type Sample = { t: number; cpu: number; memory: number };

type Props = {
  curve: Sample[];
  shadow?: Sample[];
  spans?: { name: string; start_s: number; end_s: number }[];
  colour: string;
  width: number;
  height: number;
  /** Whether memory is drawn: not where processes share pages, which samples count too often. */
  withMemory?: boolean;
};

const LEFT = 58;
const RIGHT = 44;
const TOP = 6;
const SHORTEST_SPAN_S = 0.02;

/** Cores kept busy between samples, from CPU seconds used so far. */
function busy(curve: Sample[]): { t: number; cores: number }[] {
  const found: { t: number; cores: number }[] = [];
  let before = { t: 0, cpu: 0 };
  for (const sample of curve) {
    const span = sample.t - before.t;
    // Two samples that nearly coincide would divide one clock's grain by the other's.
    if (span < SHORTEST_SPAN_S) continue;
    found.push({ t: sample.t, cores: Math.max(0, (sample.cpu - before.cpu) / span) });
    before = sample;
  }
  return found.length ? [{ t: 0, cores: found[0]?.cores ?? 0 }, ...found] : [];
}

export function RunCurve(props: Props) {
  const { curve: given, shadow = [], spans = [], colour, width, height } = props;
  const { withMemory = true } = props;
  const bottom = spans.length ? 34 : 18;
  const floor = height - bottom;
  const origin: Sample = { t: 0, cpu: 0, memory: given[0]?.memory ?? 0 };
  const curve = given.length ? [origin, ...given] : given;
  const end = max([...curve, ...shadow], (s) => s.t) ?? 1;
  const most = max([...curve, ...shadow], (s) => s.memory) ?? 1;
  const cores = busy(curve);
  const others = busy(shadow);
  const top = Math.max(1, Math.ceil(max([...cores, ...others], (c) => c.cores) ?? 1));
  const x = scaleLinear([0, end], [LEFT, width - RIGHT]);
  const memory = scaleLinear([0, most || 1], [floor, TOP]);
  const cpu = scaleLinear([0, top], [floor, TOP]);
  const memoryArea = area<Sample>()
    .x((s) => x(s.t))
    .y0(floor)
    .y1((s) => memory(s.memory))
    .curve(curveStepAfter);
  const cpuLine = line<{ t: number; cores: number }>()
    .x((c) => x(c.t))
    .y((c) => cpu(c.cores));
  return (
    <svg
      className="run-curve"
      width={width}
      height={height}
      role="img"
      aria-label={`${withMemory ? `Memory up to ${bytes(most)} and cores` : "Cores"} busy over ${figures(end)} s`}
    >
      {shadow.length > 1 && withMemory && (
        <path d={memoryArea(shadow) ?? ""} fill="var(--line)" opacity={0.6} />
      )}
      {others.length > 1 && (
        <path
          d={cpuLine(others) ?? ""}
          fill="none"
          stroke="var(--ink-3)"
          strokeWidth={1.2}
          strokeDasharray="3 3"
        />
      )}
      {curve.length > 0 && withMemory && (
        <path d={memoryArea(curve) ?? ""} fill={colour} opacity={0.25} stroke={colour} />
      )}
      {cores.length > 1 && (
        <path d={cpuLine(cores) ?? ""} fill="none" stroke="var(--ink)" strokeWidth={1.4} />
      )}
      <line x1={LEFT} x2={width - RIGHT} y1={floor} y2={floor} stroke="var(--line)" />
      {curve.length > 0 && (
        <g className="axis">
          {withMemory && (
            <>
              <text x={LEFT - 6} y={TOP + 9} textAnchor="end">
                {bytes(most)}
              </text>
              <text x={LEFT - 6} y={floor} textAnchor="end">
                memory
              </text>
            </>
          )}
          <text x={width - RIGHT + 6} y={TOP + 9}>
            {top} {top === 1 ? "core" : "cores"}
          </text>
          <text x={width - RIGHT + 6} y={floor}>
            CPU
          </text>
          {[0, end / 2, end].map((t) => (
            <text key={t} x={x(t)} y={floor + 14} textAnchor="middle">
              {t ? shortSeconds(t) : "0"}
            </text>
          ))}
        </g>
      )}
      {spans.map(({ name, start_s: from, end_s: until }, i) => (
        <g key={i}>
          <rect
            x={x(from)}
            y={height - 15}
            width={Math.max(1, x(until) - x(from) - 1)}
            height={14}
            fill={colour}
            opacity={0.35 + 0.3 * (i % 2)}
          />
          {x(until) - x(from) > name.length * 6.2 && (
            <text className="span-word" x={x(from) + 4} y={height - 4}>
              {name}
            </text>
          )}
          <title>{`${name}: ${figures(until - from)} s`}</title>
        </g>
      ))}
    </svg>
  );
}
