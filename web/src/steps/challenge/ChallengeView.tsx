/** Trying to break the conclusion: what was changed, whether the winner stayed, who is wrong then. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, InputNumber } from "antd";
import { useState } from "react";
import {
  api,
  type Comparison,
  type Findings,
  type Problem,
  type Schemas,
  taken,
} from "../../api/client";
import { useNow } from "../../api/queries";
import { Glyph } from "../../lanes/mark";
import { Copy } from "../../ui/Copy";
import { underWay } from "../../ui/job";
import { Opening } from "../../ui/Opening";
import { Trouble } from "../../ui/Trouble";
import { ago, plural } from "../../ui/units";
import { Leads } from "./Leads";
import "./challenge.css";

type Challenged = Schemas["Challenged"];
const LOOK_MS = 1_500;

type Props = { comparison: Comparison; findings: Findings };

export default function ChallengeView({ comparison, findings }: Props) {
  const cache = useQueryClient();
  const [minutes, setMinutes] = useState(5);
  const timing = useNow().data?.timing ?? false;
  const at = { params: { path: { comparison: comparison.id } } };
  const key = ["challenge", comparison.id, comparison.changed_at];
  const asked = useQuery({
    queryKey: key,
    queryFn: () => taken(api.GET("/api/comparisons/{comparison}/challenge/", at)),
    placeholderData: (before) => before,
    refetchInterval: ({ state }) => {
      const newest = state.data?.newest;
      return newest && underWay(newest.state) ? (timing ? 4 * LOOK_MS : LOOK_MS) : false;
    },
  });
  const take = (found: Challenged) => {
    void cache.invalidateQueries({ queryKey: ["now"] });
    cache.setQueryData(key, found);
  };
  const knobs = Object.fromEntries(
    Object.entries(findings.point).flatMap(([name, value]) =>
      name in comparison.knobs && value !== null ? [[name, value]] : [],
    ),
  );
  const start = useMutation<Challenged, Problem>({
    mutationFn: () =>
      taken(
        api.POST("/api/comparisons/{comparison}/challenge/", { ...at, body: { minutes, knobs } }),
      ),
    onSuccess: take,
  });
  const stop = useMutation<Challenged, Problem>({
    mutationFn: () => taken(api.DELETE("/api/comparisons/{comparison}/challenge/", at)),
    onSuccess: take,
  });
  if (asked.isPending) return <Opening what="the challenge" />;
  const newest = asked.data?.newest ?? null;
  const running = newest !== null && underWay(newest.state);
  return (
    <section className="challenge" data-testid="challenge">
      <Trouble error={asked.error ?? start.error ?? stop.error} />
      {running ? (
        <p className="quiet">
          {newest.state === "waiting"
            ? "The challenge waits for its turn. "
            : `One thing after another is changed: ${plural(newest.runs, "run")} done, ${newest.minutes} minutes at the most. `}
          <Button size="small" loading={stop.isPending} onClick={() => stop.mutate()}>
            Stop
          </Button>
        </p>
      ) : (
        <form
          className="row asking"
          onSubmit={(event) => {
            event.preventDefault();
            start.mutate();
          }}
        >
          Change one thing of the data and the conditions after another, for
          <InputNumber
            size="small"
            min={0.5}
            max={1440}
            value={minutes}
            aria-label="Minutes of the challenge"
            onChange={(value) => setMinutes(value ?? 5)}
          />
          minutes, and look whether the winner stays.
          <Button
            size="small"
            htmlType="submit"
            loading={start.isPending}
            data-testid="challenge-go"
          >
            Try to break it
          </Button>
        </form>
      )}
      {newest?.message && (
        <p className="caution">
          {newest.message.what} {newest.message.hint}
        </p>
      )}
      {newest?.found && <Told comparison={comparison} newest={newest} found={newest.found} />}
    </section>
  );
}

type ToldProps = {
  comparison: Comparison;
  newest: NonNullable<Challenged["newest"]>;
  found: Schemas["ChallengeFindings"];
};

function Told({ comparison, newest, found }: ToldProps) {
  const left = found.outcomes.filter((one) => one.verdict === "not run");
  return (
    <>
      <div data-testid="challenge-words">
        <p className="conclusion">
          <Glyph place={comparison.marks[found.leader] ?? 0} size={15} /> {found.words[0]}{" "}
          <Copy what="sentences of the challenge" text={found.words.join(" ")} />
        </p>
        <ul className="plainly">
          {found.words.slice(1).map((one) => (
            <li key={one}>{one}</li>
          ))}
        </ul>
      </div>
      <Leads comparison={comparison} found={found} />
      <p className="small quiet">
        {newest.of_now ? "" : "The comparison has changed since. "}
        {plural(found.runs, "run")} in {(found.took_s / 60).toFixed(1)} minutes,{" "}
        {ago(newest.created_at)}
        {found.stopped ? ", stopped before it was through" : ""}; all changes with each other would
        be {found.grid.toLocaleString("en")}. Changes are made one at a time: what only two of them
        together would do is not seen.
      </p>
      {left.length > 0 && (
        <details className="small">
          <summary>{plural(left.length, "change")} not looked at</summary>
          <ul>
            {left.map((one) => (
              <li key={one.words}>
                {one.words}: {one.reason}
              </li>
            ))}
          </ul>
        </details>
      )}
    </>
  );
}
