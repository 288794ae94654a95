/** What every step is given, and what several of them ask of it. */
import type { Comparison, Findings, Trial, TrialLine } from "../api/client";
import { ago } from "../ui/units";

export type StepProps = { comparison: Comparison; trial?: Trial; findings?: Findings };

/** A trial where one of several is chosen: "trial 7, Before the flood, 2 h ago". */
export function trialWords(trial: TrialLine): string {
  const state = trial.state === "done" ? "" : trial.state;
  const on = trial.on && `on ${trial.on}`;
  return [`trial ${trial.id}`, trial.said.name, on, ago(trial.created_at), state]
    .filter(Boolean)
    .join(", ");
}

/** Whether the comparison was changed after a trial took its text. */
export function changedSince(comparison: Comparison, trial: Trial): boolean {
  return comparison.changed_at > trial.created_at;
}
