/** More of the same: rounds, lanes and sizes added to a trial that has ended. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, Input, InputNumber, Popover, Select } from "antd";
import { useState } from "react";
import { useNavigate } from "react-router";
import {
  api,
  taken,
  type Comparison,
  type Findings,
  type Problem,
  type Schemas,
  type Trial,
} from "../../api/client";
import { underWay } from "../../ui/job";
import { Trouble } from "../../ui/Trouble";
import { plural, pointWords } from "../../ui/units";
import { draftOf, keepPlan, valuesTyped } from "../plan";

type Asked = Schemas["MoreAskedRequest"];
type Props = { comparison: Comparison; trial: Trial; findings: Findings };

const USUAL_ROUNDS = 5;
const USUAL_MINUTES = 10;

type HeadProps = Props & {
  /** Whether the comparison was changed after the trial. */
  changed: boolean;
};

export function MoreOfTheSame({ comparison, trial, findings, changed }: HeadProps) {
  const cache = useQueryClient();
  const go = useNavigate();
  const add = useMutation<Trial, Problem, Partial<Asked>>({
    mutationFn: (asked) =>
      taken(
        api.POST("/api/trials/{id}/more/", {
          params: { path: { id: trial.id } },
          body: {
            rounds: 0,
            lanes: [],
            knobs: {},
            point: null,
            told_within_minutes: null,
            other_versions: false,
            ...asked,
          },
        }),
      ),
    onSuccess: (told) => {
      cache.setQueryData(["trial", trial.id], told);
      void cache.invalidateQueries({ queryKey: ["now"] });
      void go(`/comparisons/${comparison.id}/trial?trial=${trial.id}`);
    },
  });
  const follow = (made: Trial) => {
    cache.setQueryData(["trial", made.id], made);
    void cache.invalidateQueries({ queryKey: ["trials", comparison.id] });
    void cache.invalidateQueries({ queryKey: ["now"] });
    void go(`/comparisons/${comparison.id}/trial?trial=${made.id}`);
  };
  const again = useMutation<Trial, Problem>({
    mutationFn: () =>
      taken(
        api.POST("/api/trials/{id}/changed/", {
          params: { path: { id: trial.id } },
          body: { other_versions: false },
        }),
      ),
    onSuccess: follow,
  });
  const exactly = useMutation<Trial, Problem>({
    mutationFn: () =>
      taken(api.POST("/api/trials/{id}/again/", { params: { path: { id: trial.id } } })),
    onSuccess: follow,
  });
  const otherwise = () => {
    keepPlan(comparison.id, draftOf(trial.plan));
    void go(`/comparisons/${comparison.id}/trial?trial=${trial.id}`);
  };
  if (underWay(trial.state)) return null;
  const several = trial.points.length > 1;
  const more = findings.rounds_more;
  const here = several ? findings.point : null;
  return (
    <div className="row more-of-the-same">
      {more !== null && (
        <Button
          size="small"
          type="primary"
          loading={add.isPending}
          data-testid="more-rounds"
          title={several ? `At ${pointWords(findings.point)}` : "In this trial"}
          onClick={() => add.mutate({ rounds: more, point: here })}
        >
          Run {plural(more, "more round")}
        </Button>
      )}
      {changed && (
        <Button
          size="small"
          loading={again.isPending}
          data-testid="run-changed"
          title="Lanes that are others now, beside kept runs of the rest: a trial of its own"
          onClick={() => again.mutate()}
        >
          Run what changed
        </Button>
      )}
      <Popover
        trigger="click"
        placement="bottomRight"
        content={
          <>
            <Ways comparison={comparison} trial={trial} findings={findings} add={add.mutate} />
            <p>
              All of it once more, as a trial of its own:{" "}
              <Button
                size="small"
                data-testid="again-exactly"
                loading={exactly.isPending}
                onClick={() => exactly.mutate()}
              >
                exactly
              </Button>{" "}
              <Button size="small" onClick={otherwise}>
                with a change…
              </Button>
            </p>
          </>
        }
      >
        <Button size="small" type="link" data-testid="more-open">
          Add to this trial…
        </Button>
      </Popover>
      <Trouble error={add.error ?? again.error ?? exactly.error} />
    </div>
  );
}

function Ways(props: Props & { add: (asked: Partial<Asked>) => void }) {
  const { comparison, trial, findings, add } = props;
  const [rounds, setRounds] = useState(findings.rounds_more ?? USUAL_ROUNDS);
  const [minutes, setMinutes] = useState(USUAL_MINUTES);
  const [lanes, setLanes] = useState<string[]>([]);
  const [sizes, setSizes] = useState("");
  const several = trial.points.length > 1;
  const ran = trial.plan.approaches ?? Object.keys(trial.lanes);
  const others = comparison.lanes.filter((lane) => !ran.includes(lane.id));
  const [knob] = Object.keys(comparison.knobs);
  return (
    <div className="more-ways" data-testid="more-ways">
      <p>
        <InputNumber
          size="small"
          min={1}
          max={1000}
          value={rounds}
          aria-label="More rounds"
          onChange={(value) => setRounds(value ?? 1)}
        />{" "}
        more rounds{" "}
        <Button
          size="small"
          data-testid="more-here"
          onClick={() => add(at(rounds, findings, several))}
        >
          {several ? `at ${pointWords(findings.point)}` : "Run them"}
        </Button>{" "}
        {several && (
          <Button size="small" onClick={() => add({ rounds })}>
            at all {trial.points.length} points
          </Button>
        )}
      </p>
      <p>
        or as many as tell who is the quickest, for{" "}
        <InputNumber
          size="small"
          min={1}
          max={1440}
          value={minutes}
          aria-label="Minutes at the most"
          onChange={(value) => setMinutes(value ?? 1)}
        />{" "}
        minutes at the most{" "}
        <Button
          size="small"
          data-testid="until-told"
          onClick={() =>
            add({ told_within_minutes: minutes, point: several ? findings.point : null })
          }
        >
          {several ? `at ${pointWords(findings.point)}` : "Run until told"}
        </Button>
      </p>
      {others.length > 0 && (
        <p>
          <Select
            size="small"
            mode="multiple"
            className="more-lanes"
            placeholder="lanes that did not run"
            aria-label="More lanes"
            value={lanes}
            options={others.map((lane) => ({ value: lane.id, label: lane.name }))}
            onChange={setLanes}
          />{" "}
          beside an anchor that did{" "}
          <Button
            size="small"
            disabled={lanes.length === 0}
            data-testid="more-lanes"
            onClick={() => add({ lanes })}
          >
            Run them
          </Button>
        </p>
      )}
      {knob && trial.plan.points.length === 0 && (
        <p>
          <label>
            {knob} at{" "}
            <Input
              size="small"
              className="more-sizes"
              value={sizes}
              placeholder="values that did not run"
              aria-label={`More values of ${knob}`}
              onChange={(event) => setSizes(event.target.value)}
            />
          </label>{" "}
          <Button
            size="small"
            disabled={!sizes.trim()}
            data-testid="more-sizes"
            onClick={() => add({ knobs: { [knob]: valuesTyped(sizes) } })}
          >
            Run them
          </Button>
        </p>
      )}
      <p className="small quiet">
        They run in rounds of their own; how far this session differs from the earlier ones is
        measured and said.
      </p>
    </div>
  );
}

function at(rounds: number, findings: Findings, several: boolean): Partial<Asked> {
  return { rounds, point: several ? findings.point : null };
}
