/** What a lane sets beside its code: untimed set-up, and its engine's own settings as text. */
import { Button } from "antd";
import { useState } from "react";
import type { Lane } from "../../api/client";
import { changes, useChange } from "../../api/queries";
import { CodeEditor, type Language } from "../../ui/editors";
import { Trouble } from "../../ui/Trouble";

export function LaneSettings({ comparison, lane }: { comparison: number; lane: Lane }) {
  const change = useChange(comparison, { quiet: true });
  const [text, setText] = useState(lane.settings_text);
  const [setup, setSetup] = useState(lane.setup ?? "");
  const changed = text !== lane.settings_text || setup !== (lane.setup ?? "");
  return (
    <div className="lane-settings">
      <p className="small quiet">
        A line a setting. This engine knows: {lane.settings_known.join(", ")}.
      </p>
      <div className="editor-box small-box">
        <CodeEditor
          id="settings"
          label={`Settings of ${lane.name}`}
          language="toml"
          value={text}
          onChange={setText}
        />
      </div>
      {lane.setup !== null && (
        <>
          <h3>Set up, untimed</h3>
          <div className="editor-box small-box">
            <CodeEditor
              id="setup"
              label={`Set-up of ${lane.name}`}
              language={lane.language as Language}
              value={setup}
              onChange={setSetup}
            />
          </div>
        </>
      )}
      <div className="row">
        <Button
          size="small"
          type="primary"
          disabled={!changed}
          loading={change.isPending}
          data-testid="save-settings"
          onClick={() =>
            change.mutate(
              changes.lane(lane.id, {
                settings_text: text,
                ...(lane.setup === null ? {} : { setup }),
              }),
            )
          }
        >
          Take these settings
        </Button>
      </div>
      <Trouble error={change.error} id="settings-problem" />
    </div>
  );
}
