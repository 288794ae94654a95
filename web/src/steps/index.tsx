/** The steps of a comparison, in order; a new one is an entry here and a view. */
import { underWay } from "../ui/job";
import { lazy } from "react";
import { AgreementStep } from "./AgreementStep";
import { FindingsStep } from "./FindingsStep";
import { QuestionStep } from "./QuestionStep";
import { TrialStep } from "./TrialStep";
import { changedSince, type StepProps } from "./props";

export type Step = {
  /** Its part of the address. */
  address: string;
  word: string;
  view: React.ComponentType<StepProps>;
  /** What it still needs, or how it stands; an empty text says that all is well. */
  state: (props: StepProps) => string;
  /** What of the address it does not take over from another step. */
  drops?: string[];
};

export const STEPS: [Step, ...Step[]] = [
  {
    address: "question",
    word: "Question",
    view: QuestionStep,
    state: ({ comparison }) => (comparison.question ? "" : "missing"),
  },
  {
    address: "data",
    word: "Data",
    view: lazy(() => import("./DataStep")),
    state: () => "",
  },
  {
    address: "approaches",
    word: "Approaches",
    view: lazy(() => import("./approaches/ApproachesStep")),
    state: ({ comparison }) => {
      if (comparison.lanes.length < 2) return "needs two lanes";
      const wrong = comparison.lanes.filter((lane) => lane.problem && !lane.retired).length;
      return wrong ? `${wrong} with errors` : "";
    },
  },
  {
    address: "agreement",
    word: "Agreement",
    view: AgreementStep,
    state: ({ findings }) => {
      const odd = findings?.lanes.filter((l) => l.agreement?.verdict === "different").length;
      return odd ? `${odd} differ` : "";
    },
  },
  {
    address: "trial",
    word: "Trial",
    view: TrialStep,
    state: ({ trial }) => (trial && underWay(trial.state) ? trial.state : ""),
  },
  {
    address: "findings",
    word: "Findings",
    view: FindingsStep,
    state: ({ comparison, trial }) => (trial && changedSince(comparison, trial) ? "stale" : ""),
    // It opens with its whole board in sight.
    drops: ["lane", "show", "base"],
  },
  {
    address: "sweep",
    word: "Sweep",
    view: lazy(() => import("./sweep/SweepStep").then((m) => ({ default: m.SweepStep }))),
    state: () => "",
  },
  {
    address: "history",
    word: "History",
    view: lazy(() => import("./history/HistoryStep")),
    state: () => "",
    drops: ["lane", "show", "base"],
  },
];

/** The step at an address; the first where there is none. */
export function stepAt(address: string): Step {
  return STEPS.find((step) => step.address === address) ?? STEPS[0];
}
