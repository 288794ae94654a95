/** Lanes that descend from each other as steps down: what each gained, and what it cost in code. */
import { scaleLog } from "d3-scale";
import type { Comparison, Staircase } from "../api/client";
import { Figure } from "../ui/Figure";
import { inUnit } from "../ui/measureWords";
import { figures, plural, seconds, shortSeconds, trimmed } from "../ui/units";
import { useWidth } from "../ui/useWidth";
import { aboutRatio, shortRatio, toldRatio } from "./ratio";
import type { Column } from "./columns";
import { Glyph, laneColour } from "./mark";

type Props = {
  comparison: Comparison;
  stairs: Staircase;
  /** Further measures to be told of each step. */
  columns: Column[];
  onPair: (base: string, lane: string) => void;
  onLane: (lane: string) => void;
};

const HEIGHT = 250;
const PAD = { left: 62, right: 16, top: 34, bottom: 22 };
const NARROW = 150;

type Step = Staircase["steps"][number];

export function Stairs({ comparison, stairs, columns, onPair, onLane }: Props) {
  const [ref, width] = useWidth<HTMLDivElement>(900);
  const steps = stairs.steps;
  const target = stairs.target_s;
  const known = steps.flatMap((step) => step.elapsed_s ?? []);
  const all = [...known, ...(target ? [target] : [])];
  const y = scaleLog(
    [Math.min(...all) / 1.3, Math.max(...all) * 1.15],
    [HEIGHT - PAD.bottom, PAD.top],
  ).clamp(true);
  const tread = (width - PAD.left - PAD.right) / steps.length;
  const left = (i: number) => PAD.left + i * tread;
  const place = (step: Step) => comparison.marks[step.lane] ?? 0;
  const open = (i: number) => {
    const above = steps[i - 1];
    if (above) onPair(above.lane, steps[i]?.lane ?? "");
    else onLane(steps[i]?.lane ?? "");
  };
  if (!known.length) return <p className="quiet">None of these lanes has a counted run here.</p>;
  const head = [
    "step", "elapsed (s)", "times faster than the step before", "at least", "at most",
    "times faster than the first", "lines changed", "share of the first's time gained per line",
    "lines of code", ...columns.map((column) => column.label),
  ]; // prettier-ignore
  const measure = (column: Column, lane: string) => column.row?.lanes[lane]?.median;
  return (
    <div ref={ref} className="stairs" data-testid="stairs">
      <Figure
        title={`Steps from ${steps[0]?.name ?? ""} to ${steps[steps.length - 1]?.name ?? ""}`}
        head={head}
        rows={steps.map((step) => [
          step.name, step.elapsed_s, step.gain?.value, step.gain?.low, step.gain?.high,
          step.so_far?.value, step.lines_changed, step.gain_per_line, step.code_lines,
          ...columns.map((column) => measure(column, step.lane)),
        ])} // prettier-ignore
      >
        <svg width={width} height={HEIGHT} role="img" aria-label="Elapsed time step by step">
          {y.ticks(4).map((t) => (
            <g key={t} className="axis">
              <line
                x1={PAD.left}
                x2={width - PAD.right}
                y1={y(t)}
                y2={y(t)}
                stroke="var(--line-2)"
              />
              {labelled(y.domain(), t) && (
                <text x={PAD.left - 8} y={y(t) + 4} textAnchor="end">
                  {shortSeconds(t)}
                </text>
              )}
            </g>
          ))}
          {target !== null && (
            <g>
              <line
                x1={PAD.left}
                x2={width - PAD.right}
                y1={y(target)}
                y2={y(target)}
                stroke="var(--target)"
                strokeWidth={1.5}
                strokeDasharray="4 3"
              />
              <text
                className="foot-word target"
                x={width - PAD.right}
                y={y(target) - 5}
                style={{ textAnchor: "end" }}
              >
                target {trimmed(seconds(target))}
              </text>
            </g>
          )}
          {steps.map((step, i) => {
            if (step.elapsed_s === null) return null;
            const at = y(step.elapsed_s);
            const before = steps[i - 1]?.elapsed_s;
            const colour = laneColour(place(step));
            return (
              <g key={step.lane} className="step" onClick={() => open(i)}>
                <rect
                  x={left(i)}
                  width={tread}
                  y={at}
                  height={HEIGHT - PAD.bottom - at}
                  fill={step.wrong ? "var(--bad)" : colour}
                  opacity={step.wrong ? 0.14 : 0.16}
                />
                <line
                  x1={left(i)}
                  x2={left(i) + tread}
                  y1={at}
                  y2={at}
                  stroke={colour}
                  strokeWidth={3}
                />
                {before != null && (
                  <line
                    x1={left(i)}
                    x2={left(i)}
                    y1={y(before)}
                    y2={at}
                    stroke={step.slower ? "var(--bad)" : colour}
                    strokeWidth={step.slower ? 3 : 1.5}
                  />
                )}
                <text className="median" x={left(i) + tread / 2} y={at - 7} textAnchor="middle">
                  {seconds(step.elapsed_s)}
                </text>
                {tread > NARROW / 2 && (
                  <text className="foot-word" x={left(i) + tread / 2} y={HEIGHT - 6}>
                    {step.wrong ? "wrong answer" : step.slower ? "slower" : gained(step)}
                  </text>
                )}
              </g>
            );
          })}
        </svg>
      </Figure>
      <div className="measures-scroll" tabIndex={0} role="region" aria-label="Steps">
        <table className="plain stairs-table">
          <thead>
            <tr>
              <th>step</th>
              <th className="number">elapsed</th>
              <th className="number">against the step before</th>
              <th className="number">against the first</th>
              <th className="number">lines changed</th>
              <th className="number">gain per changed line</th>
              {columns.map((column) => (
                <th key={column.key} className="number" title={column.how}>
                  {column.label}
                </th>
              ))}
              <th />
            </tr>
          </thead>
          <tbody>
            {steps.map((step, i) => (
              <tr
                key={step.lane}
                className={step.slower || step.wrong ? "odd" : ""}
                data-testid={`step-${step.lane}`}
              >
                <td>
                  <Glyph place={place(step)} size={13} />{" "}
                  <button className="text" onClick={() => open(i)}>
                    {step.name}
                  </button>
                </td>
                <td className="number">{seconds(step.elapsed_s)}</td>
                <td className="number">
                  <Gain step={step} first={i === 0} />
                </td>
                <td className="number">{step.so_far ? shortRatio(step.so_far) : ""}</td>
                <td className="number">
                  {i ? step.lines_changed : plural(step.code_lines, "line")}
                </td>
                <td className="number">
                  {step.gain_per_line === null ? "" : `${figures(100 * step.gain_per_line, 2)} %`}
                </td>
                {columns.map((column) => {
                  const value = measure(column, step.lane);
                  return (
                    <td key={column.key} className="number">
                      {value === undefined || !column.row ? "–" : inUnit(column.row.unit, value)}
                    </td>
                  );
                })}
                <td className="small">
                  {step.wrong && <span className="bad">wrong answer </span>}
                  {step.slower && <span className="bad">slower than before </span>}
                  {step.trouble && <span className="bad">{step.trouble} </span>}
                  {stairs.first_to_meet === step.lane && <strong>first to meet the target</strong>}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <p className="small faint">
        Gained a line: the share of the first step’s time that a changed line saved. A step opens
        its pair with the one before.
      </p>
    </div>
  );
}

/** Whether a tick has room for its label: powers of ten, and 2 and 5 where there are few. */
function labelled(domain: number[], tick: number): boolean {
  const digit = Math.round(tick / 10 ** Math.floor(Math.log10(tick) + 1e-9));
  const decades = Math.log10((domain[1] ?? 1) / (domain[0] ?? 1));
  return digit === 1 || (decades < 2 && (digit === 2 || digit === 5));
}

function gained(step: Step): string {
  if (!step.gain) return "";
  return shortRatio(step.gain);
}

function Gain({ step, first }: { step: Step; first: boolean }) {
  if (first) return <span className="faint">the first</span>;
  if (!step.gain) return <span className="faint">–</span>;
  const told = toldRatio(step.gain);
  return (
    <span title={aboutRatio(step.gain)}>
      {told.factor && <strong className={step.slower ? "bad" : ""}>{told.factor}</strong>}{" "}
      <span className="quiet small">{told.verdict}</span>
      {told.span && " "}
      {told.span && <span className="small faint nowrap">{told.span}</span>}
    </span>
  );
}
