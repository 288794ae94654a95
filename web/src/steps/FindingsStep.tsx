/** Findings: the conclusion in words, what weakens it, and the lanes board. */
import { CopyOutlined, DownloadOutlined } from "@ant-design/icons";
import { App, Button, Dropdown, Select, Tooltip } from "antd";
import { lazy, Suspense, useState } from "react";
import { Link } from "react-router";
import type { Findings, LaneFindings } from "../api/client";
import { useFindings, useTrials } from "../api/queries";
import { changedSince, type StepProps } from "./props";
import { useOff, useView, type View } from "../ui/view";
import { asText, boardMarkdown } from "../lanes/table";
import { Copy, withConditions } from "../ui/Copy";
import { Help } from "../ui/Help";
import { LaneDrawer } from "../lanes/LaneDrawer";
import { plural, pointWords } from "../ui/units";
import { Claims, PinOfAll } from "./findings/Claims";
import { Notes } from "./findings/Remarks";
import { MoreOfTheSame } from "./findings/MoreOfTheSame";
import { OverlayWords, Under } from "./findings/Under";
import { Views } from "./findings/Views";
import { trialWords } from "./props";

const NextSteps = lazy(() => import("./findings/NextSteps"));
const Report = lazy(() => import("./findings/Report").then((m) => ({ default: m.Report })));

const SHOWN_CAUTIONS = 2;

export function FindingsStep({ comparison, trial, findings }: StepProps) {
  const view = useView();
  const trials = useTrials(comparison.id);
  const under = useFindings(view.under, view.point).data;
  const [off] = useOff(comparison.id);
  if (!trial || !findings) {
    return (
      <p className="quiet">
        {trials.data?.length === 0 ? (
          <>
            No trial yet. Go to <Link to={`/comparisons/${comparison.id}/trial`}>Trial</Link>, press
            “Run the trial”, and the lanes stand here side by side when it ends.
          </>
        ) : (
          "Reading the findings…"
        )}
      </p>
    );
  }
  const lanes = findings.lanes.filter((lane) => !off.has(lane.id));
  const open = lanes.find((lane) => lane.id === view.lane);
  const told = [findings.conclusion, findings.tradeoff, findings.target];
  const conclusion = told.filter(Boolean).join(" ");
  return (
    <div className="findings">
      <div className="row findings-head">
        <Select
          size="small"
          variant="underlined"
          value={trial.id}
          aria-label="Trial in view"
          popupMatchSelectWidth={false}
          options={trials.data?.map((t) => ({
            value: t.id,
            label: trialWords(t),
          }))}
          onChange={(id: number) =>
            view.set({
              trial: id,
              point: null,
              run: null,
              ...(id === view.under && { under: null }),
            })
          }
        />
        <Under comparison={comparison.id} trial={trial.id} view={view} />
        {trial.points.length > 1 && (
          <Select
            size="small"
            variant="underlined"
            aria-label="Point in view"
            popupMatchSelectWidth={false}
            value={JSON.stringify(findings.point)}
            options={trial.points.map((point) => ({
              value: JSON.stringify(point),
              label: pointWords(point),
            }))}
            onChange={(point: string) => view.set({ point })}
          />
        )}
        <span className="small faint grow cut">
          {plural(trial.done_runs, "run")}
          {trial.state !== "done" && `, trial ${trial.state}`}
        </span>
        {trial.origin && (
          <Tooltip
            title={`Packed ${new Date(trial.origin.made_at).toLocaleDateString()} by Ivrell ${trial.origin.ivrell}`}
          >
            <span className="small caution" data-testid="origin">
              another’s: run on {trial.origin.machine}
            </span>
          </Tooltip>
        )}
        {changedSince(comparison, trial) && (
          <Tooltip title="The comparison was changed after this trial; these figures belong to the text that ran then.">
            <span className="small caution">changed since</span>
          </Tooltip>
        )}
        <MoreOfTheSame
          comparison={comparison}
          trial={trial}
          findings={findings}
          changed={changedSince(comparison, trial)}
        />
        {trial.finished_at && (
          <Suspense fallback={null}>
            <Report comparison={comparison} trial={trial} findings={findings} />
          </Suspense>
        )}
        <Export findings={findings} />
      </div>
      <p className="conclusion" data-testid="conclusion">
        {conclusion}{" "}
        <Copy what="conclusion" text={withConditions(conclusion, findings.conditions)} />
      </p>
      {findings.conditions.length > 0 && (
        <p className="small quiet conditions" data-testid="conditions">
          Measured at {findings.conditions.join(" · ")}
        </p>
      )}
      {under && (
        <OverlayWords trial={trial.id} under={under.trial} point={JSON.stringify(findings.point)} />
      )}
      <Cautions findings={findings} brief={view.show !== null} />
      <Claims comparison={comparison} judged={findings.claims} />
      <Views
        comparison={comparison}
        trial={trial}
        findings={findings}
        under={under}
        lanes={lanes}
        view={view}
      />
      {trial.finished_at && view.show === null && (
        <Suspense fallback={null}>
          <NextSteps comparison={comparison} trial={trial} point={findings.point} />
        </Suspense>
      )}
      <PinOfAll comparison={comparison} findings={findings} />
      <Notes comparison={comparison} subject={null} />
      {open && view.show !== "pair" && (
        <LaneDrawer
          comparison={comparison}
          trial={trial}
          lane={open}
          view={view}
          more={<LaneExtras comparison={comparison} findings={findings} lane={open} view={view} />}
        />
      )}
    </div>
  );
}

/** Beneath a lane's code: what it may be held against, and what was written on it. */
function LaneExtras(props: {
  comparison: StepProps["comparison"];
  findings: Findings;
  lane: LaneFindings;
  view: View;
}) {
  const { comparison, findings, lane, view } = props;
  const others = findings.lanes.filter((other) => other.id !== lane.id);
  const named = (id: string | null | undefined) => others.find((other) => other.id === id);
  const offered = [named(lane.parent), others.find((other) => other.baseline)].filter(
    (other, i, all): other is LaneFindings => !!other && all.indexOf(other) === i,
  );
  return (
    <section>
      <h3>Compared with</h3>
      <div className="row">
        {offered.map((other) => (
          <Button
            key={other.id}
            size="small"
            onClick={() => view.set({ show: "pair", base: other.id })}
          >
            {other.name}
          </Button>
        ))}
        <Select
          size="small"
          className="grow"
          placeholder="another lane"
          aria-label="Hold it against"
          value={null}
          options={others.map((other) => ({ value: other.id, label: other.name }))}
          onChange={(base: string | null) => base && view.set({ show: "pair", base })}
        />
      </div>
      <h3>Notes on this lane</h3>
      <Notes comparison={comparison} subject={{ lane: lane.id }} />
    </section>
  );
}

const REACH: Record<Findings["cautions"][number]["reach"], string> = {
  winner: "could change the winner",
  margin: "could change by how much",
  aside: "good to know",
};

/** `brief` leaves the room to a view that has more to show. */
function Cautions({ findings, brief }: { findings: Findings; brief: boolean }) {
  const [all, setAll] = useState(false);
  const found = findings.cautions;
  if (!found.length) {
    return (
      <p className="small faint">
        No cautions: nothing speaks against this result that Ivrell can see.
      </p>
    );
  }
  const first = brief ? 0 : SHOWN_CAUTIONS;
  const shown = all ? found : found.slice(0, first);
  const grave = found.filter((caution) => caution.reach === "winner").length;
  return (
    <ul className="cautions" data-testid="cautions">
      {shown.map((caution) => (
        <li key={`${caution.word} ${caution.lane}`}>
          <strong>{caution.word}</strong>
          <span className="reach small">{REACH[caution.reach]}</span> {caution.reason}{" "}
          <span className="hint">{caution.hint}</span> <Help place={caution.help} />
          {caution.each.length > 0 && (
            <details>
              <summary className="small">each lane</summary>
              <ul>
                {caution.each.map((one) => (
                  <li key={one.lane} className="small">
                    {one.reason}
                  </li>
                ))}
              </ul>
            </details>
          )}
        </li>
      ))}
      {found.length > first && (
        <li>
          <button className="text" onClick={() => setAll(!all)}>
            {all
              ? "show fewer"
              : brief
                ? `${plural(found.length, "caution")}${grave ? `, ${grave} of which could change the winner` : ""}`
                : plural(found.length - first, "more caution")}
          </button>
        </li>
      )}
    </ul>
  );
}

function Export({ findings }: { findings: Findings }) {
  const { message } = App.useApp();
  const copy = async (text: string) => {
    await navigator.clipboard.writeText(text);
    void message.success("The table is on the clipboard");
  };
  const point = encodeURIComponent(JSON.stringify(findings.point));
  return (
    <>
      <Dropdown
        trigger={["click"]}
        menu={{
          items: [
            { key: "markdown", label: "Copy the board as Markdown" },
            { key: "text", label: "Copy every measure as text" },
          ],
          onClick: ({ key }) =>
            void copy(key === "text" ? asText(findings) : boardMarkdown(findings)),
        }}
      >
        <Button size="small" type="text" icon={<CopyOutlined />} aria-label="Copy the table" />
      </Dropdown>
      <Tooltip title="Download every measure of every lane as CSV">
        <Button
          size="small"
          type="text"
          href={`/api/trials/${findings.trial}/measures/?point=${point}`}
          icon={<DownloadOutlined />}
          aria-label="Download the figures"
        />
      </Tooltip>
    </>
  );
}
