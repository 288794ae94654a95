/** What every step is given, and what several of them ask of it. */
import type { Comparison, Findings, Trial } from "../api/client";

export type StepProps = { comparison: Comparison; trial?: Trial; findings?: Findings };

/** Whether the comparison was changed after a trial took its text. */
export function changedSince(comparison: Comparison, trial: Trial): boolean {
  return comparison.changed_at > trial.created_at;
}
