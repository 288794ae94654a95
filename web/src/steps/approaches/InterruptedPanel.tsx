/** What a kill part-way leaves of a lane, and whether it can simply be started again. */
import { Button, Select } from "antd";
import { useState } from "react";
import type { Problem, Schemas } from "../../api/client";
import { underWay } from "../../ui/job";
import { Trouble } from "../../ui/Trouble";
import { bytes, count, seconds } from "../../ui/units";
import { Size, useStart, useTry, Waiting, type PanelProps } from "./TryPanel";

const SHARES = [0.1, 0.25, 0.5, 0.75, 0.9];

export function InterruptedPanel({ comparison, lane, rows, onRows, beforeTry }: PanelProps) {
  const found = useTry(comparison, lane.id).data?.interrupted;
  const start = useStart(comparison, lane.id, beforeTry);
  const [share, setShare] = useState(0.5);
  const waiting = underWay(found?.state);
  return (
    <div className="try" data-testid="interrupted-panel">
      <div className="row">
        <Button
          size="small"
          type="primary"
          loading={start.isPending || waiting}
          data-testid="interrupt"
          onClick={() => start.mutate({ rows, kind: "interrupted", share })}
        >
          Kill it and start again
        </Button>
        <span className="small quiet">after</span>
        <Select
          size="small"
          value={share}
          aria-label="Share of its usual time"
          popupMatchSelectWidth={false}
          options={SHARES.map((s) => ({ value: s, label: `${count(100 * s)} % of its time` }))}
          onChange={setShare}
        />
        <Size rows={rows} onRows={onRows} />
        {found && waiting && (
          <span className="small quiet">
            <Waiting comparison={comparison} lane={lane.id} kind="interrupted" found={found} />
          </span>
        )}
      </div>
      <Trouble error={start.error ?? ((found?.message ?? null) as Problem | null)} />
      {!found && (
        <p className="quiet">
          Runs the lane once, kills a second run part-way, counts what it left, starts it again on
          that, and holds the answer against the usual one.
        </p>
      )}
      {found?.verdict && <Outcome found={found} />}
    </div>
  );
}

function Outcome({ found }: { found: Schemas["InterruptionShape"] }) {
  const good = found.verdict === "can be started again";
  const buckets = [...new Set([...Object.keys(found.whole), ...Object.keys(found.left)])];
  return (
    <>
      <p
        className={`interruption ${good ? "good" : found.verdict === "was not killed" ? "" : "bad"}`}
        data-testid="interruption"
      >
        {found.words}
      </p>
      {buckets.map((bucket) => (
        <Left
          key={bucket}
          name={bucket || "the answer"}
          left={found.left[bucket] ?? 0}
          whole={found.whole[bucket] ?? 0}
        />
      ))}
      <p className="small quiet">
        Killed after {count(100 * found.share)} % of {seconds(found.usual_s)}, on{" "}
        {count(found.rows_asked)} rows.
        {found.left_bytes ? ` It left ${bytes(found.left_bytes)} of files.` : ""}
      </p>
    </>
  );
}

/** How much of a bucket was there after the kill. */
function Left({ name, left, whole }: { name: string; left: number; whole: number }) {
  const share = whole ? Math.min(1, left / whole) : 0;
  return (
    <div className="left-there">
      <span className="name">{name}</span>
      <span className="track">
        <span className="there" style={{ width: `${100 * share}%` }} />
      </span>
      <span className="small">
        {count(left)} of {count(whole)} rows were there after the kill
      </span>
    </div>
  );
}
