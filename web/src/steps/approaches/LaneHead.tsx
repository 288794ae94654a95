/** Above a lane's editor: its name, what it reads, and what can be done with it. */
import { BranchesOutlined, FlagOutlined, MoreOutlined } from "@ant-design/icons";
import { Button, Dropdown, Select, Tooltip } from "antd";
import type { Comparison, Lane } from "../../api/client";
import { changes, type useChange } from "../../api/queries";
import { Glyph } from "../../lanes/mark";
import { Editable } from "../../ui/Editable";
import { plural } from "../../ui/units";
import { useLaneActions } from "./useLaneActions";

type Props = {
  comparison: Comparison;
  lane: Lane;
  change: ReturnType<typeof useChange>;
  /** How the code stands: saved, saving, or not yet. */
  state: string;
};

export function LaneHead({ comparison, lane, change, state }: Props) {
  const { branch, copy, remove, retire, move } = useLaneActions(comparison, lane, change);
  const at = comparison.lanes.findIndex((l) => l.id === lane.id);
  return (
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
          options={lane.forms.map(({ form, words }) => ({ value: form, label: words }))}
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
  );
}
