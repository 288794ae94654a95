/** What to look at next: what was measured, what that leaves open, and the trial which would tell. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button } from "antd";
import { Link, useNavigate } from "react-router";
import {
  api,
  taken,
  type Comparison,
  type Problem,
  type Schemas,
  type Trial,
} from "../../api/client";
import { Glyph } from "../../lanes/mark";
import { Trouble } from "../../ui/Trouble";

type Step = Schemas["NextStep"];
type Props = { comparison: Comparison; trial: Trial; point: Record<string, unknown> };

export default function NextSteps({ comparison, trial, point }: Props) {
  const cache = useQueryClient();
  const go = useNavigate();
  const at = JSON.stringify(point);
  const found = useQuery({
    queryKey: ["next", trial.id, trial.finished_at, at],
    queryFn: () =>
      taken(
        api.GET("/api/trials/{trial}/next/", {
          params: { path: { trial: trial.id }, query: { point: at } },
        }),
      ),
  });
  const run = useMutation<Trial, Problem, Step>({
    mutationFn: (step) =>
      taken(
        api.POST("/api/comparisons/{comparison}/launch/", {
          params: { path: { comparison: comparison.id } },
          body: step.plan as Schemas["PlanRequest"],
        }),
      ),
    onSuccess: (made) => {
      cache.setQueryData(["trial", made.id], made);
      void cache.invalidateQueries({ queryKey: ["trials", comparison.id] });
      void cache.invalidateQueries({ queryKey: ["now"] });
      void go(`/comparisons/${comparison.id}/trial?trial=${made.id}`);
    },
  });
  if (found.error) return <Trouble error={found.error} />;
  if (!found.data?.steps.length) return null;
  return (
    <section className="next-steps" data-testid="next-steps">
      <h3>What to look at next</h3>
      <Trouble error={run.error} />
      <ul className="plainly">
        {found.data.steps.map((step) => (
          <li key={step.kind + (step.lane ?? "")}>
            {step.lane && (
              <>
                <Glyph place={comparison.marks[step.lane] ?? 0} size={13} />{" "}
              </>
            )}
            {step.words} <span className="small quiet">{step.evidence.join("; ")}.</span>{" "}
            {step.plan ? (
              <Button
                size="small"
                data-testid={`next-${step.kind}`}
                loading={run.isPending && run.variables === step}
                onClick={() => run.mutate(step)}
              >
                {step.label}
              </Button>
            ) : (
              step.lane && (
                <Link to={`/comparisons/${comparison.id}/approaches?lane=${step.lane}`}>
                  to the lane
                </Link>
              )
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}
