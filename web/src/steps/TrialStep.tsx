/** The trial: the plan as a sentence, then the race. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, InputNumber, Select } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, taken, type Comparison } from "../api/client";
import { useTrials } from "../api/queries";
import type { StepProps } from "../frame/ComparisonPage";
import { useOff, useView } from "../frame/view";
import { Trouble } from "../ui/Trouble";
import { ago, count, plural } from "../ui/units";
import { Race } from "./Race";

type KnobValue = string | number | boolean;

export type PlanDraft = {
  rounds: number;
  warmUps: number;
  seconds: number;
  memoryGiB: number;
  knobs: Record<string, KnobValue[]>;
};

const USUAL: PlanDraft = { rounds: 5, warmUps: 1, seconds: 120, memoryGiB: 4, knobs: {} };

function kept(comparison: number): PlanDraft {
  try {
    const text = localStorage.getItem(`ivrell-plan-${comparison}`);
    return text ? { ...USUAL, ...(JSON.parse(text) as PlanDraft), knobs: {} } : USUAL;
  } catch {
    return USUAL;
  }
}

export function TrialStep({ comparison, trial }: StepProps) {
  const view = useView();
  const cache = useQueryClient();
  const [off] = useOff(comparison.id);
  const [plan, setPlan] = useState<PlanDraft>(() => kept(comparison.id));
  const change = (part: Partial<PlanDraft>) => {
    const next = { ...plan, ...part };
    setPlan(next);
    localStorage.setItem(`ivrell-plan-${comparison.id}`, JSON.stringify(next));
  };
  const lanes = comparison.lanes.filter((lane) => !off.has(lane.id));
  const launch = useMutation({
    mutationFn: () =>
      taken(
        api.POST("/api/comparisons/{comparison}/launch/", {
          params: { path: { comparison: comparison.id } },
          body: {
            rounds: plan.rounds,
            warm_ups: plan.warmUps,
            lanes: lanes.length === comparison.lanes.length ? null : lanes.map((lane) => lane.id),
            knobs: plan.knobs,
            limits: {
              seconds: plan.seconds,
              memory_bytes: Math.round(plan.memoryGiB * 2 ** 30),
            },
            order_seed: freshSeed(),
          },
        }),
      ),
    onSuccess: (made) => {
      cache.setQueryData(["trial", made.id], made);
      void cache.invalidateQueries({ queryKey: ["trials", comparison.id] });
      void cache.invalidateQueries({ queryKey: ["now"] });
      view.set({ trial: made.id, point: null, run: null });
    },
  });
  const busy = trial?.state === "running" || trial?.state === "waiting";
  return (
    <div className="trial">
      <Sentence comparison={comparison} plan={plan} lanes={lanes.length} onChange={change} />
      <div className="row launch">
        <Button
          type="primary"
          disabled={!lanes.length || busy}
          loading={launch.isPending}
          onClick={() => launch.mutate()}
          data-testid="launch"
        >
          {lanes.length === comparison.lanes.length
            ? "Run the trial"
            : `Run ${plural(lanes.length, "lane")}`}
        </Button>
        <span className="quiet small">
          {busy
            ? "This trial is under way; another can be run when it has ended."
            : `${plural(lanes.length * (plan.rounds + plan.warmUps) * points(plan), "run")} in all.`}
        </span>
      </div>
      <Trouble error={launch.error} id="launch-problem" />
      {trial && <Race key={trial.id} comparison={comparison} trial={trial} />}
      <PastTrials comparison={comparison.id} shown={trial?.id ?? null} />
    </div>
  );
}

/** A seed for the order of runs, another for every trial; kept with its plan. */
function freshSeed(): number {
  return crypto.getRandomValues(new Uint32Array(1))[0] ?? 1;
}

function points(plan: PlanDraft): number {
  return Object.values(plan.knobs).reduce((n, values) => n * Math.max(1, values.length), 1);
}

type SentenceProps = {
  comparison: Comparison;
  plan: PlanDraft;
  lanes: number;
  onChange: (part: Partial<PlanDraft>) => void;
};

/** The plan as one sentence whose numbers can be changed where they stand. */
function Sentence({ comparison, plan, lanes, onChange }: SentenceProps) {
  const number = (
    label: string,
    value: number,
    take: (value: number) => void,
    range: { min: number; max: number; step?: number },
  ) => (
    <InputNumber
      className="inline-number"
      variant="underlined"
      size="small"
      controls={false}
      value={value}
      {...range}
      aria-label={label}
      style={{ width: `${Math.max(2, String(value).length) * 0.62 + 1.5}em` }}
      onChange={(v) => v !== null && take(v)}
    />
  );
  return (
    <p className="sentence">
      {number("Rounds", plan.rounds, (rounds) => onChange({ rounds }), { min: 1, max: 1000 })}
      {plan.rounds === 1 ? "round" : "rounds"} of {plural(lanes, "lane")} in shuffled order, each
      run in a fresh process,{" "}
      {number("Warm-ups", plan.warmUps, (warmUps) => onChange({ warmUps }), { min: 0, max: 100 })}
      {plan.warmUps === 1 ? "warm-up" : "warm-ups"}, up to{" "}
      {number("Limit of time in seconds", plan.seconds, (s) => onChange({ seconds: s }), {
        min: 0.1,
        max: 86400,
      })}
      s and{" "}
      {number("Limit of memory in GiB", plan.memoryGiB, (memoryGiB) => onChange({ memoryGiB }), {
        min: 0.05,
        max: 1024,
      })}
      GiB a run
      {Object.entries(comparison.knobs).map(([knob, values]) => (
        <span key={knob}>
          , {knob} at{" "}
          <Select
            mode="multiple"
            variant="underlined"
            size="small"
            className="knob-values"
            aria-label={`Values of ${knob}`}
            placeholder={words(values[0])}
            value={plan.knobs[knob] as (string | number)[] | undefined}
            options={values.map((value) => ({
              value: value as string | number,
              label: words(value),
            }))}
            onChange={(chosen: KnobValue[]) => {
              const others = Object.fromEntries(
                Object.entries(plan.knobs).filter(([name]) => name !== knob),
              );
              onChange({ knobs: chosen.length ? { ...others, [knob]: chosen } : others });
            }}
          />
        </span>
      ))}
      .
    </p>
  );
}

function words(value: unknown): string {
  return typeof value === "number" ? count(value) : String(value);
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
