/** One comparison: lanes on the left, the steps of the work, and the step in view. */
import { Suspense } from "react";
import { Link, useSearchParams } from "react-router";
import { useComparison, useEndOf, useFindings, useTrial, useTrials } from "../api/queries";
import { STEPS, stepAt, type Step } from "../steps";
import { Opening } from "../ui/Opening";
import { Unread } from "./Unread";
import { Trouble } from "../ui/Trouble";
import { Rail } from "./Rail";
import { Shortcuts } from "./Shortcuts";
import { useView } from "../ui/view";

/** What of the address goes along to a step. */
function searchFor(step: Step, search: URLSearchParams): string {
  const kept = new URLSearchParams(search);
  for (const name of ["run", ...(step.drops ?? [])]) kept.delete(name);
  return `?${kept}`;
}

export function ComparisonPage() {
  const view = useView();
  const [search] = useSearchParams();
  const comparison = useComparison(view.comparison);
  const trials = useTrials(view.comparison);
  const trialId = view.trial ?? trials.data?.[0]?.id ?? null;
  const trial = useTrial(trialId);
  useEndOf(view.comparison, trial.data);
  const findings = useFindings(trialId, view.point);
  if (comparison.error) {
    return (
      <main className="sheet-page">
        <h1>This comparison cannot be opened</h1>
        <Trouble error={comparison.error} />
        <p>
          Nothing of it is lost. Where its file is the reason, download it, change what is named
          above, and bring it in again as a file.
        </p>
        <p>
          <a href={`/api/comparisons/${view.comparison}/file/`}>Download the file as it is kept</a>
        </p>
        <p>
          <Link to="/">All comparisons</Link>
        </p>
      </main>
    );
  }
  if (!comparison.data) {
    return (
      <main className="sheet-page">
        <Opening what="the comparison" />
      </main>
    );
  }
  const here = stepAt(view.step);
  const props = { comparison: comparison.data, trial: trial.data, findings: findings.data };
  return (
    <div className="work">
      <Rail {...props} />
      <main className="main" key={view.comparison}>
        <Unread comparison={comparison.data} />
        <nav className="steps" aria-label="Steps">
          {STEPS.map((step) => {
            const state = step.state(props);
            return (
              <Link
                key={step.address}
                to={{
                  pathname: `/comparisons/${view.comparison}/${step.address}`,
                  search: searchFor(step, search),
                }}
                className={step === here ? "here" : ""}
                aria-current={step === here ? "step" : undefined}
              >
                {step.word}
                {state && <span className="state caution">{state}</span>}
              </Link>
            );
          })}
        </nav>
        <Suspense fallback={<Opening />}>
          <here.view {...props} />
        </Suspense>
        <Shortcuts comparison={view.comparison} trial={trial.data} trials={trials.data} />
      </main>
    </div>
  );
}
