/** The steps by which an engine carries a statement out, as a tree. */
import type { Schemas } from "../api/client";
import { count, plural, seconds } from "../ui/units";

type Step = Schemas["Step"];

/** Expected rows further off than this are marked: the engine chose its way by them. */
const FAR_OFF = 10;

function all(step: Step): Step[] {
  return [step, ...step.steps.flatMap(all)];
}

export function StatementPlan(props: { statement: Schemas["StatementPlan"]; many: boolean }) {
  const { statement, many } = props;
  const steps = statement.plan ? all(statement.plan) : [];
  const longest = Math.max(0, ...steps.map((step) => step.own_s ?? 0));
  const timed = steps.some((step) => step.own_s !== null);
  return (
    <>
      {many && (
        <h3>
          <span className="mono small cut">{statement.text.split("\n")[0]}</span>
          <span className="faint small"> line {statement.line}</span>
        </h3>
      )}
      {!statement.plan && <p className="quiet small">Engines do not explain this statement.</p>}
      {statement.plan && (
        <table className="plain plan-tree" data-testid="plan-tree">
          <thead>
            <tr>
              <th>step</th>
              <th className="number">rows</th>
              <th className="number">expected</th>
              <th className="own">{timed ? "its own time" : ""}</th>
            </tr>
          </thead>
          <tbody>
            <Line step={statement.plan} depth={0} longest={longest} />
          </tbody>
        </table>
      )}
    </>
  );
}

/** By which factor two row counts lie apart. */
function apart(a: number, b: number): number {
  return Math.max(a, b, 1) / Math.max(Math.min(a, b), 1);
}

function Line({ step, depth, longest }: { step: Step; depth: number; longest: number }) {
  const expected = step.expected_rows;
  const off = expected !== null && step.rows !== null && apart(expected, step.rows) > FAR_OFF;
  const blocks = Object.entries(step.blocks).map(
    ([what, n]) => `${count(n)} ${n === 1 ? "block" : "blocks"} ${what}`,
  );
  return (
    <>
      <tr>
        <td>
          <div style={{ paddingLeft: 14 * depth }} className="plan-step">
            <span className="what">
              {depth > 0 && <span className="faint">└ </span>}
              {step.what}
            </span>
            {step.loops !== null && step.loops > 1 && (
              <span className="faint small"> {plural(step.loops, "time")}</span>
            )}
            <div className="detail quiet" title={step.detail}>
              {[step.detail, ...blocks].filter(Boolean).join(" · ")}
            </div>
          </div>
        </td>
        <td className="number">{step.rows === null ? "" : count(Math.round(step.rows))}</td>
        <td className={`number ${off ? "caution" : "quiet"}`}>
          {expected === null ? "" : count(Math.round(expected))}
        </td>
        <td className="own">
          {step.own_s !== null && (
            <>
              <span className="bar" style={{ width: `${(52 * step.own_s) / (longest || 1)}px` }} />
              {seconds(step.own_s)}
            </>
          )}
        </td>
      </tr>
      {step.steps.map((child, i) => (
        <Line key={i} step={child} depth={depth + 1} longest={longest} />
      ))}
    </>
  );
}
