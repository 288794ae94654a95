/** Which lines of the lane its time and memory go to: beside the code, in words and as a drawing. */
import { Button, Select } from "antd";
import { useState } from "react";
import type { Problem, Schemas } from "../../api/client";
import { Flame } from "../../plot/Flame";
import { Copy } from "../../ui/Copy";
import { underWay } from "../../ui/job";
import { Trouble } from "../../ui/Trouble";
import { count, seconds } from "../../ui/units";
import { EVERY_ROW, useStart, useTry, Waiting, type PanelProps } from "./TryPanel";

const SIZES = [10_000, 100_000, 1_000_000];

type Hot = Schemas["HotFindings"];

type Props = Pick<PanelProps, "comparison" | "lane" | "beforeTry">;

export function HotPanel({ comparison, lane, beforeTry }: Props) {
  const found = useTry(comparison, lane.id).data?.hot;
  const start = useStart(comparison, lane.id, beforeTry);
  const [rows, setRows] = useState(EVERY_ROW);
  const waiting = underWay(found?.state);
  return (
    <div className="try hot" data-testid="hot-panel">
      <div className="row">
        <Button
          size="small"
          type="primary"
          loading={start.isPending || waiting}
          data-testid="hot"
          onClick={() => start.mutate({ rows, kind: "hot" })}
        >
          Find its hot lines
        </Button>
        <span className="small quiet">on</span>
        <Select
          size="small"
          value={rows}
          aria-label="Rows to look at"
          popupMatchSelectWidth={false}
          options={[
            { value: EVERY_ROW, label: "all rows" },
            ...SIZES.map((size) => ({ value: size, label: `${count(size)} rows` })),
          ]}
          onChange={setRows}
        />
        <span className="small quiet">
          {found && waiting ? (
            <Waiting comparison={comparison} lane={lane.id} kind="hot" found={found} />
          ) : (
            "a run of its own, never counted"
          )}
        </span>
      </div>
      <Trouble error={start.error ?? ((found?.message ?? null) as Problem | null)} />
      {!found && (
        <p className="quiet">
          The lane runs once more and is looked at every few milliseconds; an engine of SQL tells
          its own plan with times. The margin of the code then shows what each line took.
        </p>
      )}
      {found?.found && !waiting && <Told found={found.found} ofNow={found.of_now} />}
    </div>
  );
}

function Told({ found, ofNow }: { found: Hot; ofNow: boolean }) {
  if (found.trouble) return <div className="trouble">{found.trouble}</div>;
  return (
    <>
      {!ofNow && (
        <p className="small caution">The code has changed since: lines are those of before.</p>
      )}
      <div data-testid="hot-words">
        {found.words.map((one, number) => (
          <p key={one} className={number ? "small" : "conclusion"}>
            {one} {!number && <Copy what="sentences" text={found.words.join(" ")} />}
          </p>
        ))}
      </div>
      {found.elapsed_s !== null && (
        <p className="small quiet">
          {seconds(found.elapsed_s)} while it was looked at
          {found.cpu_s !== null && `, CPU ${seconds(found.cpu_s)}`}
        </p>
      )}
      {found.nodes.length > 0 && (
        <Flame
          nodes={found.nodes}
          label={`Where the time of ${found.name} goes`}
          steps={found.way === "plan"}
        />
      )}
      {found.unseen.length > 0 && (
        <>
          <h3>What this cannot see</h3>
          <ul className="plainly small">
            {found.unseen.map((one) => (
              <li key={one}>{one}</li>
            ))}
          </ul>
        </>
      )}
    </>
  );
}
