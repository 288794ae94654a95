/** The trial: the plan as a sentence, then the live view. */
import { goesOn } from "../ui/job";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, taken } from "../api/client";
import { useMachine, useTrials } from "../api/queries";
import type { StepProps } from "./props";
import { useOff, useView } from "../ui/view";
import { Trouble } from "../ui/Trouble";
import { ago, plural } from "../ui/units";
import {
  asBody,
  draftOf,
  keepPlan,
  keptPlan,
  mostRounds,
  points,
  type PlanDraft,
  steps,
} from "./plan";
import { LiveView } from "./LiveView";
import { PlanEstimate } from "./PlanEstimate";
import { Sentence } from "./Sentence";

export function TrialStep({ comparison, trial }: StepProps) {
  const view = useView();
  const cache = useQueryClient();
  const [off, tick] = useOff(comparison.id);
  const [draft, setDraft] = useState<PlanDraft | null>(null);
  const plan = draft ?? keptPlan(comparison, trial);
  const change = (part: Partial<PlanDraft>) => {
    const next = { ...plan, ...part };
    setDraft(next);
    keepPlan(comparison.id, next);
  };
  const machine = useMachine();
  const present = comparison.lanes.filter((lane) => !lane.retired);
  const lanes = present.filter((lane) => !off.has(lane.id));
  const launch = useMutation({
    mutationFn: () =>
      taken(
        api.POST("/api/comparisons/{comparison}/launch/", {
          params: { path: { comparison: comparison.id } },
          body: asBody(plan, lanes.length === present.length ? null : lanes.map((lane) => lane.id)),
        }),
      ),
    onSuccess: (made) => {
      change({});
      cache.setQueryData(["trial", made.id], made);
      void cache.invalidateQueries({ queryKey: ["trials", comparison.id] });
      void cache.invalidateQueries({ queryKey: ["now"] });
      view.set({ trial: made.id, point: null, run: null });
    },
  });
  const busy = goesOn(trial?.state);
  return (
    <div className="trial">
      {comparison.plans.length > 0 && (
        <p className="kept-plans">
          <span className="quiet">Plans kept here:</span>{" "}
          {comparison.plans.map((kept) => (
            <button
              key={kept.name}
              className="text link"
              onClick={() => {
                change(draftOf(kept));
                const { approaches } = kept;
                if (approaches) {
                  for (const lane of present) tick(lane.id, approaches.includes(lane.id));
                }
              }}
            >
              {kept.name}
            </button>
          ))}
        </p>
      )}
      <Sentence
        comparison={comparison}
        plan={plan}
        lanes={lanes.length}
        cores={(machine.data as { cores?: number } | undefined)?.cores}
        onChange={change}
      />
      <div className="row launch">
        <Button
          type="primary"
          disabled={!lanes.length}
          loading={launch.isPending}
          onClick={() => launch.mutate()}
          data-testid="launch"
        >
          {lanes.length === present.length
            ? "Run the trial"
            : `Run ${plural(lanes.length, "lane")}`}
        </Button>
        <span className="quiet small">
          {busy
            ? "It waits behind what is under way; see the queue."
            : `${plan.untilSure ? "At most " : ""}${plural(
                lanes.length * (mostRounds(plan) + plan.warmUps) * points(plan),
                "run",
              )} ${plan.order === "search" && steps(plan) && !plan.untilSure ? "at these sizes, then those of the search" : "in all"}.`}
        </span>
        {!busy && lanes.length > 0 && (
          <PlanEstimate
            comparison={comparison}
            // Whatever the order, it takes the same.
            plan={{
              ...asBody(
                plan,
                lanes.map((lane) => lane.id),
              ),
              order_seed: 1,
            }}
            onRounds={(rounds) => change({ rounds, untilSure: false })}
          />
        )}
      </div>
      <Trouble error={launch.error} id="launch-problem" />
      {trial && <LiveView key={trial.id} comparison={comparison} trial={trial} />}
      <PastTrials comparison={comparison.id} shown={trial?.id ?? null} />
    </div>
  );
}

function PastTrials({ comparison, shown }: { comparison: number; shown: number | null }) {
  const { data } = useTrials(comparison);
  const others = data?.filter((trial) => trial.id !== shown) ?? [];
  if (!others.length) return null;
  return (
    <section className="past">
      <h3>Other trials</h3>
      <table className="plain">
        <tbody>
          {others.map((trial) => (
            <tr key={trial.id}>
              <td className="nowrap">
                <Link to={`/comparisons/${comparison}/findings?trial=${trial.id}`}>
                  trial {trial.id}
                </Link>
              </td>
              <td className="nowrap quiet">{ago(trial.created_at)}</td>
              <td className="nowrap">{trial.state}</td>
              <td className="quiet">{trial.conclusion}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
