/** The trial: the plan as a sentence, then the live view. */
import { goesOn, underWay } from "../ui/job";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, Select } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, taken } from "../api/client";
import { useMachine, useMachines, useTrials } from "../api/queries";
import { changedSince, type StepProps } from "./props";
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
import { Schedule } from "./Schedule";
import { Sentence } from "./Sentence";
import { TryAll, useTriedAll } from "./TryAll";

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
  const [on, setOn] = useState("");
  const machines = useMachines().data?.machines ?? [];
  const labels = [...new Set(machines.flatMap((one) => one.labels))];
  const present = comparison.lanes.filter((lane) => !lane.retired);
  const lanes = present.filter((lane) => !off.has(lane.id));
  const launch = useMutation({
    mutationFn: () =>
      taken(
        api.POST("/api/comparisons/{comparison}/launch/", {
          params: { path: { comparison: comparison.id }, query: on ? { on } : {} },
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
  // A trial on another machine is in nobody's way here.
  const busy = trial?.on === on && goesOn(trial.state);
  const tried = useTriedAll(comparison);
  // Offered first where what would run has never been run or tried as it is now.
  const first = tried.known && !tried.newest?.of_now && (!trial || changedSince(comparison, trial));
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
        {tried.known && !underWay(tried.newest?.state) && (
          <Button
            type={first ? "primary" : "default"}
            loading={tried.start.isPending}
            disabled={!present.length}
            data-testid="try-all"
            title="Every lane once at small sizes: errors, agreement, and how long the plan takes"
            onClick={() => tried.start.mutate()}
          >
            {first ? "Try all first" : "Try all"}
          </Button>
        )}
        <Button
          type={first ? "default" : "primary"}
          disabled={!lanes.length}
          loading={launch.isPending}
          onClick={() => launch.mutate()}
          data-testid="launch"
        >
          {lanes.length === present.length
            ? "Run the trial"
            : `Run ${plural(lanes.length, "lane")}`}
        </Button>
        {machines.length > 0 && (
          <Select
            size="small"
            variant="underlined"
            aria-label="Machine"
            data-testid="on-machine"
            popupMatchSelectWidth={false}
            value={on}
            options={[
              { value: "", label: "on this machine" },
              ...machines.map((one) => ({
                value: one.name,
                label: `on ${one.name}${one.away ? ", away now" : ""}`,
              })),
              ...labels.map((label) => ({ value: label, label: `on all called ${label}` })),
              { value: "all", label: "on all of them" },
            ]}
            onChange={setOn}
          />
        )}
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
        <Schedule
          comparison={comparison.id}
          plan={asBody(plan, lanes.length === present.length ? null : lanes.map((lane) => lane.id))}
        />
      </div>
      <Trouble error={launch.error} id="launch-problem" />
      <TryAll comparison={comparison} tried={tried} />
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
              <td className="nowrap">
                {trial.state}
                {trial.on && ` on ${trial.on}`}
              </td>
              <td className="quiet">{trial.conclusion}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
