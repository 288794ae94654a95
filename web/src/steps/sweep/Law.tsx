/** The law that was fitted to a lane, and its runs about it. */
import { laneColour } from "../../lanes/mark";
import { lawAt } from "./data";
import { type Drawn, type Growth, RESIDUALS, type Scale } from "./geometry";

/** The laws that were fitted to the chosen lane. */
export function Fitted({ law, x, y }: { law: Growth; x: Scale; y: Scale }) {
  return (
    <g data-testid="law">
      {law.laws.map((one) => {
        const [from, until] = [x(one.from_size), x(one.until_size)];
        const steps = Array.from({ length: 41 }, (_, i) => from + ((until - from) * i) / 40);
        const d = steps
          .map((at) => `${at},${y(Math.max(lawAt(one, x.invert(at)), 1e-12))}`)
          .join("L");
        return <path key={from} d={`M${d}`} fill="none" stroke="var(--ink)" strokeWidth={1} />;
      })}
    </g>
  );
}

/** How far every run of the chosen lane lies off its law, as a share. */
export function Residuals(props: {
  drawn: Drawn | undefined;
  law: Growth;
  x: Scale;
  top: number;
  from: number;
  until: number;
}) {
  const { drawn, law, x, top, from, until } = props;
  if (!drawn) return null;
  const off = drawn.spots.flatMap((s) => {
    const own = law.laws.find((one) => s.x >= one.from_size && s.x <= one.until_size);
    return own ? s.runs.map((run) => ({ x: s.x, off: run / lawAt(own, s.x) - 1 })) : [];
  });
  const most = Math.max(0.05, ...off.map((one) => Math.abs(one.off)));
  const middle = top + RESIDUALS / 2;
  const reach = RESIDUALS / 2 - 14;
  return (
    <g data-testid="residuals">
      <line x1={from} x2={until} y1={middle} y2={middle} stroke="var(--ink-3)" />
      {[1, -1].map((side) => (
        <text
          key={side}
          x={from - 8}
          y={middle - side * reach + 4}
          textAnchor="end"
          className="tick"
        >
          {side > 0 ? "+" : "−"}
          {Math.round(100 * most)} %
        </text>
      ))}
      <text x={until + 10} y={middle + 4} className="tick">
        runs about the law
      </text>
      <path
        d={off.map((one) => `M${x(one.x)},${middle - (one.off / most) * reach}h0`).join("")}
        stroke={laneColour(drawn.place)}
        strokeWidth={4}
        strokeLinecap="round"
        opacity={0.6}
      />
    </g>
  );
}
