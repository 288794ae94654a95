/** How the engine carries the lane out: its steps as a tree, with what it counted in each. */
import { Button } from "antd";
import type { Problem } from "../../api/client";
import { StatementPlan } from "../../plot/PlanTree";
import { underWay } from "../../ui/job";
import { Trouble } from "../../ui/Trouble";
import { Size, useStart, useTry, Waiting, type PanelProps } from "./TryPanel";

export function ExplainedPanel({ comparison, lane, rows, onRows, beforeTry }: PanelProps) {
  const found = useTry(comparison, lane.id).data?.explained;
  const start = useStart(comparison, lane.id, beforeTry);
  const waiting = underWay(found?.state);
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
        <span className="small quiet">
          {found && waiting ? (
            <Waiting comparison={comparison} lane={lane.id} kind="explained" found={found} />
          ) : (
            "a run of its own, never counted"
          )}
        </span>
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
        <StatementPlan key={statement.line} statement={statement} many={found.plans.length > 1} />
      ))}
    </div>
  );
}
