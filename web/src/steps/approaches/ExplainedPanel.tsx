/** How the engine carries the lane out: its steps as a tree, with what it counted in each. */
import { Button } from "antd";
import type { Problem, Schemas } from "../../api/client";
import { Trouble } from "../../ui/Trouble";
import { count, plural, seconds } from "../../ui/units";
import { Size, useStart, useTry, type PanelProps } from "./TryPanel";

type Step = Schemas["Step"];

/** Expected rows further off than this are marked: the engine chose its way by them. */
const FAR_OFF = 10;

export function ExplainedPanel({ comparison, lane, rows, onRows, beforeTry }: PanelProps) {
  const found = useTry(comparison, lane.id).data?.explained;
  const start = useStart(comparison, lane.id, beforeTry);
  const waiting = found?.state === "waiting";
  const error = found?.error as { kind: string; message: string } | null | undefined;
  return (
    <div className="try" data-testid="explained-panel">
      <div className="row">
        <Button
          size="small"
          type="primary"
          loading={start.isPending || waiting}
          data-testid="explain"
          onClick={() => start.mutate({ rows, kind: "explained" })}
        >
          Explain it
        </Button>
        <Size rows={rows} onRows={onRows} />
        <span className="small quiet">a run of its own, never counted</span>
      </div>
      <Trouble error={start.error ?? ((found?.message ?? null) as Problem | null)} />
      {error && (
        <div className="trouble">
          {error.kind}: {error.message}
        </div>
      )}
      {!found && (
        <p className="quiet">
          The engine’s own account of what it does: which tables it reads and how, what it joins,
          sorts and groups, how many rows it expected and how many came.
        </p>
      )}
      {found?.plans.map((statement) => (
        <Statement key={statement.line} statement={statement} many={found.plans.length > 1} />
      ))}
    </div>
  );
}

function all(step: Step): Step[] {
  return [step, ...step.steps.flatMap(all)];
}

function Statement(props: { statement: Schemas["StatementPlan"]; many: boolean }) {
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
