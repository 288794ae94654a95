/** The lanes, always in sight: who competes, in what, and how each stands. */
import { PlusOutlined } from "@ant-design/icons";
import { Button, Dropdown, Tooltip } from "antd";
import { useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import type { Lane } from "../api/client";
import { changes, useChange, useEngines } from "../api/queries";
import { isApart, shortRatio } from "../lanes/ratio";
import { Glyph, laneColour } from "../lanes/mark";
import { verdictWord } from "../lanes/words";
import { plural } from "../ui/units";
import type { StepProps } from "../steps/props";
import { useOff, useView } from "../ui/view";

/** Between an engine and one of its ways, in a key of the menu. */
const WAY = "\n";

export function Rail({ comparison, findings }: StepProps) {
  const view = useView();
  const navigate = useNavigate();
  const [search] = useSearchParams();
  const [off, tick] = useOff(comparison.id);
  const [held, setHeld] = useState<string | null>(null);
  const change = useChange(comparison.id);
  const engines = useEngines();
  const marks = comparison.marks;
  const [all, setAll] = useState(false);
  const retired = comparison.lanes.filter((lane) => lane.retired).length;
  const shown = comparison.lanes.filter((l) => all || !l.retired || l.id === view.lane);
  const open = (lane: string) => {
    const next = new URLSearchParams(search);
    next.set("lane", lane);
    next.delete("run");
    const step = ["findings", "agreement", "trial"].includes(view.step) ? view.step : "approaches";
    void navigate({ pathname: `/comparisons/${comparison.id}/${step}`, search: `?${next}` });
  };
  const add = (engine: string, way = "") =>
    change.mutate(changes.addLane({ engine: engine as "python", way }), {
      onSuccess: (changed) => {
        const known = new Set(comparison.lanes.map((lane) => lane.id));
        const made = changed.lanes.find((lane) => !known.has(lane.id));
        void navigate(`/comparisons/${comparison.id}/approaches?lane=${made?.id ?? ""}`);
      },
    });
  const dropBefore = (lane: string) => {
    if (!held || held === lane) return;
    const ids = comparison.lanes.map((l) => l.id).filter((id) => id !== held);
    ids.splice(ids.indexOf(lane), 0, held);
    change.mutate(changes.order(ids));
  };
  return (
    <aside className="rail" aria-label="Lanes">
      <h2>
        Lanes
        {findings && <span className="faint">against the baseline</span>}
      </h2>
      {shown.map((lane) => (
        <div
          key={lane.id}
          className={`rail-lane ${view.lane === lane.id ? "chosen" : ""} ${off.has(lane.id) || lane.retired ? "off" : ""}`}
          style={{ "--mark": laneColour(marks[lane.id] ?? 0) } as React.CSSProperties}
          data-testid={`rail-${lane.id}`}
          draggable
          onDragStart={() => setHeld(lane.id)}
          onDragEnd={() => setHeld(null)}
          onDragOver={(event) => event.preventDefault()}
          onDrop={() => dropBefore(lane.id)}
          onClick={() => open(lane.id)}
        >
          <input
            type="checkbox"
            checked={!off.has(lane.id) && !lane.retired}
            disabled={lane.retired}
            aria-label={`${lane.name} counts`}
            onClick={(event) => event.stopPropagation()}
            onChange={(event) => tick(lane.id, event.target.checked)}
          />
          <Glyph place={marks[lane.id] ?? 0} size={15} />
          <button className="text name" onClick={() => open(lane.id)} title={lane.name}>
            {lane.name}
          </button>
          <div className="facts">
            <Ratio lane={lane} findings={findings} />
            <Facts lane={lane} findings={findings} />
          </div>
        </div>
      ))}
      {!comparison.lanes.length && (
        <p className="quiet small rail-empty">
          No lane yet. Add the first way to get the answer; two are needed to compare.
        </p>
      )}
      {retired > 0 && (
        <button className="text quiet small retired" onClick={() => setAll(!all)}>
          {all ? "Hide what is retired" : `${plural(retired, "retired lane")}`}
        </button>
      )}
      <div className="add">
        <Dropdown
          trigger={["click"]}
          menu={{
            className: "add-menu",
            items: [
              ...(engines.data?.engines ?? [])
                .filter((engine) => !engine.problem)
                .map((engine) => ({
                  key: engine.name,
                  disabled: !engine.installed,
                  label: `${engine.name}${engine.installed ? "" : engine.arriving ? " (arriving)" : " (not installed)"}`,
                })),
              ...(engines.data?.engines ?? [])
                .filter((engine) => engine.ways.length > 0)
                .map((engine) => ({
                  type: "group" as const,
                  label: `in ${engine.name}`,
                  children: engine.ways.map((way) => ({
                    key: `${engine.name}${WAY}${way}`,
                    disabled: !engine.installed,
                    label: way,
                  })),
                })),
            ],
            onClick: ({ key }) => {
              const [engine = "", way = ""] = key.split(WAY);
              add(engine, way);
            },
          }}
        >
          <Button size="small" icon={<PlusOutlined />} data-testid="add-lane">
            Add a lane
          </Button>
        </Dropdown>
      </div>
    </aside>
  );
}

function Ratio({ lane, findings }: { lane: Lane; findings: StepProps["findings"] }) {
  const found = findings?.lanes.find((l) => l.id === lane.id);
  if (!found) return null;
  if (found.state === "limit") return <span className="ratio caution">limit</span>;
  if (found.state === "failed") return <span className="ratio bad">failed</span>;
  if (found.baseline) return null;
  if (!found.ratio) return null;
  const told = shortRatio(found.ratio);
  return (
    <Tooltip title={`against the baseline: ${told}`}>
      <span className={`ratio ${isApart(found.ratio) ? "" : "faint"}`}>{told}</span>
    </Tooltip>
  );
}

function Facts({ lane, findings }: { lane: Lane; findings: StepProps["findings"] }) {
  const found = findings?.lanes.find((l) => l.id === lane.id);
  const agreement = found?.agreement;
  return (
    <>
      {found?.baseline && <strong>baseline · </strong>}
      {lane.problem && <span className="bad">has errors · </span>}
      {agreement && agreement.verdict !== "no answer" && (
        <>
          <span className={agreement.agrees ? "" : "bad"}>{verdictWord(agreement)}</span>
          {" · "}
        </>
      )}
      {lane.retired && "retired · "}
      {lane.engine}, {lane.input === lane.engine ? "loaded" : lane.input} ·{" "}
      {plural(lane.code_lines, "line")}
    </>
  );
}
