/** Where approaches are written: the lane's editor, and beside it where it came from. */
import { BranchesOutlined, FlagOutlined, MoreOutlined } from "@ant-design/icons";
import { App, Button, Dropdown, Segmented, Select, Tooltip } from "antd";
import { diffLines } from "../ui/diff";
import { useEffect, useRef, useState } from "react";
import { useNavigate } from "react-router";
import type { Comparison, Lane } from "../api/client";
import { changes, useChange, type Change } from "../api/queries";
import type { StepProps } from "./props";
import { useView } from "../frame/view";
import { Glyph } from "../lanes/mark";
import { CodeDifference, CodeEditor, type Language } from "../ui/editors";
import { Editable } from "../ui/Editable";
import { plural } from "../ui/units";
import { KnobStrip } from "./KnobStrip";
import { LaneSettings } from "./LaneSettings";
import { ExplainedPanel } from "./ExplainedPanel";
import { InterruptedPanel } from "./InterruptedPanel";
import { SheetEditor } from "./SheetEditor";
import { TryPanel, useTry } from "./TryPanel";

const SAVE_AFTER_MS = 700;

type Side = "try" | "origin" | "explained" | "interrupted" | "settings" | "sees";

export default function ApproachesStep({ comparison, trial }: StepProps) {
  const view = useView();
  const lane = comparison.lanes.find((l) => l.id === view.lane) ?? comparison.lanes[0];
  if (!lane) {
    return (
      <p className="quiet">
        No approach yet. Use “Add a lane” on the left: it starts with a few lines that already run
        on this comparison’s tables.
      </p>
    );
  }
  return (
    <LaneEditor key={lane.id} comparison={comparison} lane={lane} ran={trial?.lanes[lane.id]} />
  );
}

function LaneEditor(props: { comparison: Comparison; lane: Lane; ran: string | undefined }) {
  const { comparison, lane, ran } = props;
  const change = useChange(comparison.id);
  const navigate = useNavigate();
  const { message } = App.useApp();
  const [code, setCode] = useState(lane.code);
  const [saved, setSaved] = useState(lane.code);
  const [side, setSide] = useState<Side>(lane.parent ? "origin" : "try");
  const [rows, setRows] = useState(1000);
  const tried = useTry(comparison.id, lane.id).data?.newest;
  const failedLine = (tried?.error as { line?: number } | null | undefined)?.line ?? null;
  const parent = comparison.lanes.find((l) => l.id === lane.parent);
  const timer = useRef<number>(0);

  const save = (text: string) => {
    if (text === saved) return;
    setSaved(text);
    change.mutate(changes.lane(lane.id, { code: text }));
  };
  const saveNow = async () => {
    window.clearTimeout(timer.current);
    if (code === saved) return;
    setSaved(code);
    await change.mutateAsync(changes.lane(lane.id, { code }));
  };
  const typed = (text: string) => {
    setCode(text);
    window.clearTimeout(timer.current);
    timer.current = window.setTimeout(() => save(text), SAVE_AFTER_MS);
  };
  const last = useRef(() => {});
  useEffect(() => {
    last.current = () => {
      window.clearTimeout(timer.current);
      save(code);
    };
  });
  // What was typed just before leaving is saved too.
  useEffect(() => () => last.current(), []);

  const open = (made: Comparison, fallback: string | undefined) => {
    const known = new Set(comparison.lanes.map((l) => l.id));
    const id = made.lanes.find((l) => !known.has(l.id))?.id ?? fallback ?? "";
    void navigate(`/comparisons/${comparison.id}/approaches?lane=${id}`);
  };
  const branch = () =>
    change.mutate(changes.addLane({ branch_from: lane.id }), {
      onSuccess: (made) => open(made, lane.id),
    });
  const copy = () =>
    change.mutate(changes.addLane({ copy_of: lane.id }), {
      onSuccess: (made) => open(made, lane.id),
    });
  /** Change the comparison with a way back for ten seconds. */
  const undoable = (done: Change, words: string, next?: (made: Comparison) => void) => {
    const before = comparison.text;
    change.mutate(done, {
      onSuccess: (made) => {
        next?.(made);
        const key = `undo-${lane.id}`;
        const undo = () => {
          message.destroy(key);
          change.mutate(changes.text(before), { onSuccess: (back) => open(back, lane.id) });
        };
        void message.open({
          key,
          duration: 10,
          content: (
            <>
              “{lane.name}” {words}{" "}
              <Button type="link" size="small" onClick={undo}>
                Undo
              </Button>
            </>
          ),
        });
      },
    });
  };
  const remove = () =>
    undoable(changes.removeLane(lane.id), "is removed.", (made) => open(made, made.lanes[0]?.id));
  const retire = () =>
    lane.retired
      ? undoable(changes.retire(lane.id, false), "runs again.")
      : undoable(
          changes.retire(lane.id, true),
          "is retired: old trials keep it, new ones do not run it.",
        );
  const move = (by: number) => {
    const ids = comparison.lanes.map((l) => l.id);
    const at = ids.indexOf(lane.id);
    ids.splice(at, 1);
    ids.splice(at + by, 0, lane.id);
    change.mutate(changes.order(ids));
  };
  const at = comparison.lanes.findIndex((l) => l.id === lane.id);
  const panel = {
    comparison: comparison.id,
    lane,
    rows,
    onRows: setRows,
    beforeTry: saveNow,
  };
  const writes = /^writes = true/m.test(lane.settings_text);
  const names = { tables: comparison.columns, knobs: Object.keys(comparison.knobs) };
  const state = change.isPending ? "saving" : code === saved ? "saved" : "not saved yet";
  const problem = lane.problem as { what: string; line: number | null; hint: string } | null;
  return (
    <div className="approach">
      <div className="row approach-head">
        <Glyph place={comparison.marks[lane.id] ?? 0} size={18} />
        <div className="approach-name">
          <Editable
            label="Name of the lane"
            value={lane.name}
            wrong={(text) => (text.trim() ? "" : "A lane needs a name.")}
            onTake={(name) => change.mutate(changes.lane(lane.id, { name }))}
          />
        </div>
        <span className="quiet nowrap">
          {lane.runtime ? `${lane.engine} (${lane.runtime})` : lane.engine} reading{" "}
          <Select
            size="small"
            value={lane.input}
            aria-label="Form of the input"
            options={lane.forms.map((form) => ({
              value: form,
              label: DATABASES.has(form) ? `tables of ${form}` : form,
            }))}
            onChange={(input: string) => change.mutate(changes.lane(lane.id, { input }))}
          />
        </span>
        {lane.parts > 1 && (
          <span className="quiet small nowrap">in {plural(lane.parts, "part")}</span>
        )}
        <span className="quiet small nowrap">{plural(lane.code_lines, "line")}</span>
        <span className="small faint grow nowrap" data-testid="save-state">
          {state}
        </span>
        <Tooltip title="Make a variant that remembers this lane">
          <Button size="small" icon={<BranchesOutlined />} onClick={branch}>
            Branch
          </Button>
        </Tooltip>
        {comparison.baseline !== lane.id && (
          <Tooltip title="Hold the others against this lane">
            <Button
              size="small"
              icon={<FlagOutlined />}
              onClick={() => change.mutate(changes.settings({ baseline: lane.id }))}
            >
              Baseline
            </Button>
          </Tooltip>
        )}
        <Dropdown
          trigger={["click"]}
          menu={{
            items: [
              { key: "copy", label: "Duplicate", onClick: copy },
              { key: "up", label: "Move up", disabled: at === 0, onClick: () => move(-1) },
              {
                key: "down",
                label: "Move down",
                disabled: at === comparison.lanes.length - 1,
                onClick: () => move(1),
              },
              { type: "divider" },
              {
                key: "retire",
                label: lane.retired ? "Bring back" : "Retire (old trials keep it)",
                disabled: comparison.baseline === lane.id,
                onClick: retire,
              },
              { key: "remove", label: "Remove (can be undone)", onClick: remove },
            ],
          }}
        >
          <Button size="small" icon={<MoreOutlined />} aria-label="More for this lane" />
        </Dropdown>
      </div>
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
              wrong={problem?.line ?? (code === saved ? failedLine : null)}
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
              ...(lane.language === "sql"
                ? [{ value: "explained" as const, label: "Explained" }]
                : []),
              ...(writes ? [{ value: "interrupted" as const, label: "Interrupted" }] : []),
              { value: "settings", label: "Settings" },
              { value: "sees", label: "What it sees" },
            ]}
          />
          {side === "try" && (
            <>
              {lane.note && <p className="note">{lane.note}</p>}
              <TryPanel {...panel} />
            </>
          )}
          {side === "origin" && parent && (
            <Origin lane={lane} code={code} parent={parent} comparison={comparison} />
          )}
          {side === "explained" && <ExplainedPanel {...panel} />}
          {side === "interrupted" && <InterruptedPanel {...panel} />}
          {side === "settings" && (
            <LaneSettings key={lane.settings_text} comparison={comparison.id} lane={lane} />
          )}
          {side === "sees" && <Seen lane={lane} comparison={comparison} />}
        </section>
      </div>
    </div>
  );
}

type OriginProps = { lane: Lane; code: string; parent: Lane; comparison: Comparison };

function Origin({ lane, code, parent, comparison }: OriginProps) {
  const { added, removed } = diffLines(parent.code, code);
  return (
    <>
      <h3>
        Branched from <Glyph place={comparison.marks[parent.id] ?? 0} size={13} /> {parent.name}
      </h3>
      <p className="small quiet">
        {added || removed
          ? `${plural(added, "line")} added, ${removed} taken out.`
          : "The text is the same; " +
            (parent.input === lane.input
              ? "change it to make a variant."
              : `it reads ${lane.input} instead of ${parent.input}.`)}
      </p>
      {(added > 0 || removed > 0) && (
        <CodeDifference
          before={parent.code}
          after={code}
          language={lane.language as Language}
          labels={[`Code of ${parent.name}`, `Code of ${lane.name}`]}
        />
      )}
    </>
  );
}

const DATABASES = new Set(["postgres", "sqlite", "duckdb"]);

const HOW: Record<string, string> = {
  python:
    'Write a function answer(data, knobs, stage). What stands outside it, such as imports, is not timed. With server = "postgres" in the settings it has a fourth argument db, an open session: each statement commits by itself, several together are with db.transaction(): and db.address opens more sessions.',
  command:
    "Set argv to the program and its arguments; {script} is a file that holds this text, and what it prints, or leaves at {out}, is the answer.",
  remote:
    "Write a function answer(data, knobs, stage, service): service.call(rows) gives the service’s results for rows, service.later(rows) a ticket for service.wait(ticket). Its rule and its delays stand in the settings.",
  sheet:
    "Each column of the answer sheet has a formula of the OpenFormula standard, arguments parted by semicolons: {barges.hull} is a whole column, {barges} a whole table, {row.barge} the cell on the formula’s own row, {answer.hull} a column of the answer, {cells.rate} a single cell. Cells, repeats and changes stand in the settings.",
  sql: "Write SQL; the rows of the last statement are the answer, fetched inside the clock.",
};

/** How a lane's code names a table or a knob. */
function named(
  comparison: Comparison,
  lane: Lane,
  name: string,
  python: string,
  sql: string,
): string {
  if (lane.engine === "sheet") return name in comparison.columns ? `{${name}}` : name;
  return lane.language === "python" ? python : lane.engine === "command" ? `{${name}}` : sql;
}

function Seen({ lane, comparison }: { lane: Lane; comparison: Comparison }) {
  return (
    <>
      <h3>What an approach sees</h3>
      <p className="quiet">{HOW[lane.engine] ?? HOW.sql}</p>
      <table className="plain">
        <tbody>
          {comparison.tables.map((table) => (
            <tr key={table}>
              <td className="mono">{named(comparison, lane, table, `data.${table}`, table)}</td>
              <td className="quiet">
                {lane.language === "sql"
                  ? lane.input === lane.engine
                    ? "a table, loaded with its keys and indexes"
                    : "a view over its file"
                  : `${lane.parts > 1 ? "list of paths" : "path"} of the ${lane.input} ${lane.parts > 1 ? "parts" : "file"}`}
              </td>
            </tr>
          ))}
          {Object.keys(comparison.knobs).map((knob) => (
            <tr key={knob}>
              <td className="mono">{named(comparison, lane, knob, `knobs.${knob}`, `:${knob}`)}</td>
              <td className="quiet">a knob’s value</td>
            </tr>
          ))}
          <tr>
            <td className="mono">
              {lane.language === "python" ? 'with stage("read"):' : "-- stage: read"}
            </td>
            <td className="quiet">names a part of the run, timed on its own</td>
          </tr>
        </tbody>
      </table>
      <p className="quiet">
        The answer is{" "}
        {lane.language === "python"
          ? "a table of pandas, Polars or PyArrow, a list of dicts, or the path of a file. Lazy ones are computed before the clock stops."
          : "taken with its column names as they are."}
      </p>
    </>
  );
}
