/** A lane's editor, and beside it the panels that help to write it. */
import { Segmented } from "antd";
import { useState } from "react";
import type { Comparison, Lane } from "../../api/client";
import { useChange } from "../../api/queries";
import { lineMarks } from "../../lanes/hot";
import { CodeEditor, type Language } from "../../ui/editors";
import { ExplainedPanel } from "./ExplainedPanel";
import { HotPanel } from "./HotPanel";
import { InterruptedPanel } from "./InterruptedPanel";
import { KnobStrip } from "./KnobStrip";
import { LaneHead } from "./LaneHead";
import { LaneSettings } from "./LaneSettings";
import { Origin } from "./Origin";
import { Seen } from "./Seen";
import { SheetEditor } from "./SheetEditor";
import { TryPanel, useTry } from "./TryPanel";
import { useCode } from "./useCode";

type Side = "try" | "origin" | "explained" | "hot" | "interrupted" | "settings" | "sees";

type Props = { comparison: Comparison; lane: Lane; ran: string | undefined };

export function LaneEditor({ comparison, lane, ran }: Props) {
  const change = useChange(comparison.id);
  const { code, typed, saveNow, isSaved } = useCode(lane, change);
  const [side, setSide] = useState<Side>(lane.parent ? "origin" : "try");
  const [rows, setRows] = useState(1000);
  const { newest: tried, hot } = useTry(comparison.id, lane.id).data ?? {};
  const parent = comparison.lanes.find((l) => l.id === lane.parent);
  const panel = { comparison: comparison.id, lane, rows, onRows: setRows, beforeTry: saveNow };
  const writes = /^writes = true/m.test(lane.settings_text);
  const names = { tables: comparison.columns, knobs: Object.keys(comparison.knobs) };
  const state = change.isPending ? "saving" : isSaved ? "saved" : "not saved yet";
  const { problem } = lane;
  return (
    <div className="approach">
      <LaneHead comparison={comparison} lane={lane} change={change} state={state} />
      <KnobStrip comparison={comparison} />
      {problem && (
        <div className="trouble" role="alert" data-testid="lane-problem">
          {problem.line && <div className="where">line {problem.line}</div>}
          {problem.what} {problem.hint}
        </div>
      )}
      {ran !== undefined && ran !== lane.code && (
        <p className="small caution">
          Changed since the trial in view: its figures belong to the text that ran then.
        </p>
      )}
      <div className="approach-body">
        {lane.engine === "sheet" ? (
          <SheetEditor comparison={comparison} lane={lane} tried={tried} />
        ) : (
          <div className="editor-box">
            <CodeEditor
              id="code"
              label={`Code of ${lane.name}`}
              language={lane.language as Language}
              value={code}
              onChange={typed}
              names={names}
              marks={side === "hot" && hot?.of_now ? lineMarks(hot.found) : []}
              wrong={problem?.line ?? (isSaved ? (tried?.error?.line ?? null) : null)}
            />
          </div>
        )}
        <section className="beside">
          <Segmented
            size="small"
            value={side}
            onChange={setSide}
            options={[
              { value: "try", label: "Try" },
              ...(parent ? [{ value: "origin" as const, label: "Origin" }] : []),
              ...(lane.explains ? [{ value: "explained" as const, label: "Explained" }] : []),
              { value: "hot", label: "Hot lines" },
              ...(writes ? [{ value: "interrupted" as const, label: "Interrupted" }] : []),
              { value: "settings", label: "Settings" },
              { value: "sees", label: "What it sees" },
            ]}
          />
          {side === "try" && lane.note && <p className="note">{lane.note}</p>}
          {(side === "try" || side === "origin") && (
            <TryPanel {...panel} brief={side === "origin"} />
          )}
          {side === "origin" && parent && (
            <Origin lane={lane} code={code} parent={parent} comparison={comparison} />
          )}
          {side === "explained" && <ExplainedPanel {...panel} />}
          {side === "hot" && <HotPanel {...panel} />}
          {side === "interrupted" && <InterruptedPanel {...panel} />}
          {side === "settings" && (
            <LaneSettings key={lane.settings_text} comparison={comparison.id} lane={lane} />
          )}
          {side === "sees" && <Seen lane={lane} />}
        </section>
      </div>
    </div>
  );
}
