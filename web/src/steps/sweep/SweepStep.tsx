/** How it scales: each lane over the values of a knob, or of two, and who leads where. */
import { lazy, Suspense, useMemo } from "react";
import { Link } from "react-router";
import type { Comparison } from "../../api/client";
import { useSweep } from "../../api/queries";
import { useWidth } from "../../ui/useWidth";
import { useOff, useView } from "../../ui/view";
import type { StepProps } from "../props";
import { Under } from "../findings/Under";
import { Choice } from "./Choice";
import {
  type Along,
  apartFrom,
  goingWith,
  isNumeric,
  lanesAt,
  type Measure,
  MEASURES,
  panels,
  panelWords,
  type SweepPoint,
  varied,
} from "./data";
import { OneKnob } from "./OneKnob";

const Maps = lazy(() => import("./Maps"));

const MOST_PANELS = 12;

export function SweepStep({ comparison, trial, findings }: StepProps) {
  const address = `/comparisons/${comparison.id}/trial`;
  if (!trial) {
    return (
      <p className="quiet">
        No trial yet. Go to <Link to={address}>Trial</Link> and choose several values of a knob:
        here stands how the lanes do over them.
      </p>
    );
  }
  if (trial.points.length < 2) {
    return (
      <p className="quiet" data-testid="one-point">
        Trial {trial.id} ran at one point. Choose several values of a knob on the step{" "}
        <Link to={address}>Trial</Link>, such as a small and a large size, and see here who leads
        where.
      </p>
    );
  }
  return <Sweep comparison={comparison} trial={trial.id} findings={findings} />;
}

type Props = { comparison: Comparison; trial: number; findings: StepProps["findings"] };

function Sweep({ comparison, trial, findings }: Props) {
  const { data } = useSweep(trial, findings);
  const view = useView();
  const under = useSweep(view.under, "known").data;
  const [ref, width] = useWidth<HTMLDivElement>(900);
  return (
    <div className="sweep" ref={ref}>
      {data ? (
        <>
          <div className="row">
            <Under comparison={comparison.id} trial={trial} view={view} />
          </div>
          <Swept
            {...{ comparison, trial, width }}
            points={data.points}
            found={data.found}
            under={under?.points ?? []}
          />
        </>
      ) : (
        <p className="quiet">Reading the findings of every point…</p>
      )}
    </div>
  );
}

type SweptProps = {
  comparison: Comparison;
  trial: number;
  points: SweepPoint[];
  found: Along[];
  /** Points of the trial that lies under this one. */
  under: SweepPoint[];
  width: number;
};

function Swept({ comparison, trial, points, found, under, width }: SweptProps) {
  const [off] = useOff(comparison.id);
  const view = useView();
  const knobs = useMemo(() => varied(points), [points]);
  const first = knobs.find((name) => isNumeric(points, name)) ?? knobs[0] ?? "";
  const measure: Measure =
    view.measure && view.measure in MEASURES ? (view.measure as Measure) : "elapsed";
  const knob = view.along && knobs.includes(view.along) ? view.along : first;
  const others = useMemo(() => apartFrom(points, [knob]), [knob, points]);
  const together = useMemo(() => goingWith(points, knob), [knob, points]);
  const second = view.across && others.includes(view.across) ? view.across : null;
  const rest = second ? apartFrom(points, [knob, second]) : others;
  const every = useMemo(
    () => panels(points, second ? [knob, second] : [knob], found),
    [found, knob, points, second],
  );
  const alone = every.find((panel) => JSON.stringify(panel.at) === view.at);
  const shown = alone ? [alone] : every.slice(0, MOST_PANELS);
  const lanes = useMemo(() => lanesAt(comparison, points, off), [comparison, off, points]);
  if (!first) return <p className="quiet">The points of this trial have all the same values.</p>;
  return (
    <>
      <p className="sentence">
        {second ? "Who leads by " : "How "}
        <Choice
          label="Measure"
          value={measure}
          options={Object.entries(MEASURES).map(([value, { word }]) => ({
            value: value as Measure,
            label: word,
          }))}
          onChange={(value) => view.set({ measure: value === "elapsed" ? null : value })}
        />{" "}
        {second ? "over " : "goes with "}
        <Choice
          label="Knob along the axis"
          value={knob}
          options={knobs.map((name) => ({ value: name, label: name }))}
          onChange={(value) => view.set({ along: value, at: null })}
        />
        {together.length > 0 && ` with ${together.join(" and ")}`}
        {others.length > 0 && (
          <>
            {" "}
            <Choice
              label="Knob across"
              value={second ?? ""}
              options={[
                { value: "", label: "alone" },
                ...others.map((n) => ({ value: n, label: `by ${n}, as a map` })),
              ]}
              onChange={(value) => view.set({ across: value || null, at: null })}
            />
          </>
        )}
        {rest.length > 0 && (
          <>
            ,{" "}
            <Choice
              label="The other knobs"
              value={alone ? (view.at ?? "") : ""}
              options={[
                { value: "", label: `at each ${rest.join(" and ")}` },
                ...every.map((panel) => ({
                  value: JSON.stringify(panel.at),
                  label: `at ${panelWords(panel.at)}`,
                })),
              ]}
              onChange={(value) => view.set({ at: value || null })}
            />
          </>
        )}
        .
      </p>
      {second ? (
        <Suspense fallback={null}>
          <Maps
            found={found}
            {...{ comparison, trial, lanes, measure, width }}
            across={[knob, second]}
            shown={shown}
          />
        </Suspense>
      ) : (
        <OneKnob {...{ comparison, trial, lanes, measure, knob, under, width }} shown={shown} />
      )}
      {every.length > shown.length && !alone && (
        <p className="small quiet">
          {every.length - shown.length} more choices of {rest.join(" and ")} can be chosen above.
        </p>
      )}
    </>
  );
}
