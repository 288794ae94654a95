/** The ways to look at findings: board, scatter, steps, pair. */
import { Select } from "antd";
import { lazy, Suspense, useState } from "react";
import type { Comparison, Findings, LaneFindings, Trial } from "../../api/client";
import { Board } from "../../lanes/Board";
import { shownColumns } from "../../lanes/columns";
import { Measures } from "../../lanes/Measures";
import { Scatter } from "../../lanes/Scatter";
import { Stairs } from "../../lanes/Stairs";
import { asPicture, download } from "../../ui/download";
import { Opening } from "../../ui/Opening";
import type { View } from "../../ui/view";
import { OnMachines } from "./OnMachines";
import { ThenAndNow } from "./ThenAndNow";
import { ColumnChooser } from "./ColumnChooser";
import { useColumns } from "./useColumns";

const ChallengeView = lazy(() => import("../challenge/ChallengeView"));
const CostView = lazy(() => import("../costs/CostView"));
const PairView = lazy(() => import("./PairView"));

type Props = {
  comparison: Comparison;
  trial: Trial;
  findings: Findings;
  under: Findings | undefined;
  lanes: LaneFindings[];
  view: View;
};

function pictureOfBoard() {
  const board = document.querySelector<HTMLElement>(".board-grid");
  if (board) download("lanes.svg", "image/svg+xml", asPicture(board));
}

const ON_THE_BOARD = ["elapsed", "cpu_total", "peak_memory", "code_lines"];

export function Views({ comparison, trial, findings, under, lanes, view }: Props) {
  const [choosing, setChoosing] = useState(false);
  const chosen = useColumns(comparison, findings, view);
  const pair = pairOf(findings, lanes, view);
  const open = (lane: string) => view.set({ lane, run: null });
  const openPair = (base: string, lane: string) =>
    view.set({ show: "pair", base, lane, run: null });
  const words = [
    { show: null, word: "Board" },
    { show: "scatter", word: "Scatter" },
    ...(findings.staircases.length ? [{ show: "steps", word: "Steps" }] : []),
    ...(pair ? [{ show: "pair", word: "Pair" }] : []),
    ...(trial.finished_at ? [{ show: "cost", word: "Cost" }] : []),
    ...(trial.finished_at ? [{ show: "challenge", word: "Challenge" }] : []),
    ...(trial.group !== null ? [{ show: "machines", word: "Machines" }] : []),
    ...(under ? [{ show: "change", word: "Then and now" }] : []),
  ];
  const here = words.some((one) => one.show === view.show) ? view.show : null;
  const further = shownColumns(findings, chosen.columns).filter(
    (column) => column.row && !ON_THE_BOARD.includes(column.key),
  );
  return (
    <>
      <div className="row views">
        <nav aria-label="Views of the findings">
          {words.map(({ show, word }) => (
            <button
              key={word}
              className={`text ${here === show ? "here" : ""}`}
              aria-pressed={here === show}
              onClick={() =>
                view.set({
                  show,
                  ...(show === "pair" && pair ? { base: pair[0], lane: pair[1] } : { lane: null }),
                })
              }
            >
              {word}
            </button>
          ))}
        </nav>
        {here === null && (
          <>
            <button className="text link" onClick={() => setChoosing(true)} data-testid="columns">
              Columns…
            </button>
            <button className="text link" onClick={pictureOfBoard} data-testid="board-picture">
              SVG
            </button>
          </>
        )}
        {here === "scatter" && <Axes findings={findings} view={view} />}
      </div>
      {here === null && (
        <>
          <Board
            comparison={comparison}
            findings={findings}
            under={under}
            lanes={lanes}
            columns={chosen.columns}
            chosen={view.lane}
            onOpen={open}
            onWidth={chosen.widen}
          />
          <Measures comparison={comparison} findings={findings} lanes={lanes} />
        </>
      )}
      {here === "scatter" && (
        <ScatterOf comparison={comparison} findings={findings} lanes={lanes} view={view} />
      )}
      {here === "steps" &&
        findings.staircases.map((stairs) => (
          <Stairs
            key={stairs.steps.map((step) => step.lane).join(" ")}
            comparison={comparison}
            stairs={stairs}
            columns={further}
            onPair={openPair}
            onLane={open}
          />
        ))}
      {here === "pair" && pair && (
        <Suspense fallback={<p className="faint">Opening…</p>}>
          <PairView
            comparison={comparison}
            trial={trial}
            findings={findings}
            under={under}
            base={pair[0]}
            lane={pair[1]}
            view={view}
          />
        </Suspense>
      )}
      {here === "cost" && (
        <Suspense fallback={<Opening what="what it costs" />}>
          <CostView comparison={comparison} trial={trial.id} findings={findings} />
        </Suspense>
      )}
      {here === "challenge" && (
        <Suspense fallback={<Opening what="the challenge" />}>
          <ChallengeView comparison={comparison} findings={findings} />
        </Suspense>
      )}
      {here === "machines" && (
        <OnMachines comparison={comparison} trial={trial} point={JSON.stringify(findings.point)} />
      )}
      {here === "change" && under && (
        <ThenAndNow comparison={comparison} trial={trial} findings={findings} under={under.trial} />
      )}
      {choosing && (
        <ColumnChooser
          findings={findings}
          columns={chosen.columns}
          onColumns={chosen.put}
          onUsual={chosen.usual}
          onClose={() => setChoosing(false)}
        />
      )}
    </>
  );
}

/** The two lanes of the pair: those of the address, else the only two that are ticked, else the
 * baseline and the quickest other. */
function pairOf(findings: Findings, lanes: LaneFindings[], view: View): [string, string] | null {
  const known = (id: string | null) => findings.lanes.some((lane) => lane.id === id);
  if (view.base && view.lane && view.base !== view.lane && known(view.base) && known(view.lane)) {
    return [view.base, view.lane];
  }
  const ticked = lanes.map((lane) => lane.id);
  const ordered = findings.ranking.filter((id) => ticked.includes(id));
  if (ordered.length < 2) return null;
  const baseline = lanes.find((lane) => lane.baseline)?.id;
  const base = baseline ?? ordered[ordered.length - 1] ?? "";
  const other = view.lane && view.lane !== base && known(view.lane) ? view.lane : null;
  const quickest = ordered.find((id) => id !== base);
  return quickest ? [base, other ?? quickest] : null;
}

const USUAL_X = "code_lines";
const USUAL_Y = "elapsed";

function axesOf(findings: Findings, view: View) {
  const row = (key: string | null, usual: string) =>
    findings.measures.find((measure) => measure.key === key) ??
    findings.measures.find((measure) => measure.key === usual) ??
    findings.measures[0];
  const memory = findings.measures.some((measure) => measure.key === "peak_memory");
  return { x: row(view.x, memory ? "peak_memory" : USUAL_X), y: row(view.y, USUAL_Y) };
}

function Axes({ findings, view }: { findings: Findings; view: View }) {
  const { x, y } = axesOf(findings, view);
  const options = findings.measures.map((row) => ({ value: row.key, label: row.label }));
  const choose = (label: string, value: string | undefined, part: "x" | "y") => (
    <Select
      size="small"
      variant="underlined"
      showSearch
      optionFilterProp="label"
      popupMatchSelectWidth={false}
      aria-label={label}
      value={value}
      options={options}
      onChange={(key: string) => view.set({ [part]: key })}
    />
  );
  return (
    <span className="row small">
      {choose("Measure upwards", y?.key, "y")} <span className="quiet">over</span>{" "}
      {choose("Measure to the right", x?.key, "x")}
    </span>
  );
}

function ScatterOf({ comparison, findings, lanes, view }: Omit<Props, "trial" | "under">) {
  const { x, y } = axesOf(findings, view);
  if (!x || !y) return <p className="quiet">Nothing has been measured yet.</p>;
  return (
    <>
      <Scatter
        comparison={comparison}
        lanes={lanes}
        x={x}
        y={y}
        onOpen={(lane) => view.set({ lane, run: null })}
      />
      <p className="small faint">
        The line joins the lanes that no other beats on both: every other lane is worse on one and
        no better on the other than some lane on it. Lanes that answered otherwise are never on it.
      </p>
    </>
  );
}
