/** One comparison: lanes on the left, the steps of the work, and the step in view. */
import { lazy, Suspense } from "react";
import { Link, useSearchParams } from "react-router";
import { useComparison, useFindings, useTrial, useTrials } from "../api/queries";
import { AgreementStep } from "../steps/AgreementStep";
import { FindingsStep } from "../steps/FindingsStep";
import { QuestionStep } from "../steps/QuestionStep";
import { TrialStep } from "../steps/TrialStep";
import { changedSince, type StepProps } from "../steps/props";
import { Trouble } from "../ui/Trouble";
import { Rail } from "./Rail";
import { useView } from "./view";

const ApproachesStep = lazy(() => import("../steps/ApproachesStep"));
const DataStep = lazy(() => import("../steps/DataStep"));

const STEPS: Record<string, { word: string; view: React.ComponentType<StepProps> }> = {
  question: { word: "Question", view: QuestionStep },
  data: { word: "Data", view: DataStep },
  approaches: { word: "Approaches", view: ApproachesStep },
  agreement: { word: "Agreement", view: AgreementStep },
  trial: { word: "Trial", view: TrialStep },
  findings: { word: "Findings", view: FindingsStep },
};

/** What a step still wants, or how it stands; an empty text says that all is well. */
function stateOf(step: string, { comparison, trial, findings }: StepProps): string {
  const troubled = comparison.lanes.filter((lane) => lane.problem && !lane.retired).length;
  switch (step) {
    case "question":
      return comparison.question ? "" : "missing";
    case "approaches":
      if (comparison.lanes.length < 2) return "needs two lanes";
      return troubled ? `${troubled} with errors` : "";
    case "agreement": {
      const odd = findings?.lanes.filter((l) => l.agreement?.verdict === "different").length;
      return odd ? `${odd} differ` : "";
    }
    case "trial":
      return trial?.state === "running" || trial?.state === "waiting" ? trial.state : "";
    case "findings":
      return trial && changedSince(comparison, trial) ? "stale" : "";
    default:
      return "";
  }
}

/** What of the address goes along to a step: Findings opens with its whole board in sight. */
function searchFor(step: string, search: URLSearchParams): string {
  const kept = new URLSearchParams(search);
  kept.delete("run");
  if (step === "findings") kept.delete("lane");
  return `?${kept}`;
}

export function ComparisonPage() {
  const view = useView();
  const [search] = useSearchParams();
  const comparison = useComparison(view.comparison);
  const trials = useTrials(view.comparison);
  const trialId = view.trial ?? trials.data?.[0]?.id ?? null;
  const trial = useTrial(trialId);
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
  if (!comparison.data) return null;
  const Step = (STEPS[view.step] ?? STEPS.question)?.view ?? QuestionStep;
  const props = { comparison: comparison.data, trial: trial.data, findings: findings.data };
  return (
    <div className="work">
      <Rail {...props} />
      <main className="main" key={view.comparison}>
        <nav className="steps" aria-label="Steps">
          {Object.entries(STEPS).map(([name, { word }]) => {
            const state = stateOf(name, props);
            return (
              <Link
                key={name}
                to={{
                  pathname: `/comparisons/${view.comparison}/${name}`,
                  search: searchFor(name, search),
                }}
                className={name === view.step ? "here" : ""}
                aria-current={name === view.step ? "step" : undefined}
              >
                {word}
                {state && <span className="state caution">{state}</span>}
              </Link>
            );
          })}
        </nav>
        <Suspense fallback={<p className="faint">Opening…</p>}>
          <Step {...props} />
        </Suspense>
      </main>
    </div>
  );
}
