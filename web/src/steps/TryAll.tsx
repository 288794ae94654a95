/** Trying all: every lane once at small sizes, before a plan is run. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button } from "antd";
import { useEffect } from "react";
import { Link } from "react-router";
import { api, taken, type Comparison, type Problem, type Schemas } from "../api/client";
import { useNow } from "../api/queries";
import { Glyph } from "../lanes/mark";
import { underWay } from "../ui/job";
import { Trouble } from "../ui/Trouble";
import { count, plural, seconds } from "../ui/units";

type TriedAll = Schemas["TriedAll"];
const LOOK_MS = 1_500;

const key = (comparison: number) => ["tried all", comparison];

export function useTriedAll(comparison: Comparison) {
  const cache = useQueryClient();
  const at = { params: { path: { comparison: comparison.id } } };
  const timing = useNow().data?.timing ?? false;
  const tried = useQuery({
    queryKey: [...key(comparison.id), comparison.changed_at],
    queryFn: () => taken(api.GET("/api/comparisons/{comparison}/try-all/", at)),
    placeholderData: (before) => before,
    refetchInterval: ({ state }) => {
      const newest = state.data?.newest;
      return newest && underWay(newest.state) ? (timing ? 4 * LOOK_MS : LOOK_MS) : false;
    },
  });
  const ended = tried.data?.newest?.found ? tried.data.newest.id : null;
  useEffect(() => {
    // Runs have been done that tell how long the plan takes.
    void cache.invalidateQueries({ queryKey: ["estimate", comparison.id] });
  }, [ended, cache, comparison.id]);
  const take = (found: TriedAll) => {
    void cache.invalidateQueries({ queryKey: ["now"] });
    cache.setQueryData([...key(comparison.id), comparison.changed_at], found);
  };
  const start = useMutation<TriedAll, Problem>({
    mutationFn: () => taken(api.POST("/api/comparisons/{comparison}/try-all/", at)),
    onSuccess: take,
  });
  const stop = useMutation<TriedAll, Problem>({
    mutationFn: () => taken(api.DELETE("/api/comparisons/{comparison}/try-all/", at)),
    onSuccess: take,
  });
  return { newest: tried.data?.newest ?? null, known: !tried.isPending, start, stop };
}

type Props = { comparison: Comparison; tried: ReturnType<typeof useTriedAll> };

/** What came of it: errors, agreement, times. */
export function TryAll({ comparison, tried }: Props) {
  const { newest, start, stop } = tried;
  if (!newest) return <Trouble error={start.error} />;
  const running = underWay(newest.state);
  const wrong = newest.found?.lanes.filter((l) => l.state !== "done" || l.agrees === false) ?? [];
  return (
    <section className="tried-all" data-testid="tried-all">
      <Trouble error={start.error ?? stop.error} />
      {running ? (
        <p className="quiet">
          {newest.state === "waiting"
            ? "Trying all lanes waits for its turn. "
            : `Trying all lanes at small sizes, ${plural(newest.runs, "run")} done. `}
          <Button size="small" loading={stop.isPending} onClick={() => stop.mutate()}>
            Stop
          </Button>
        </p>
      ) : newest.message ? (
        <p className="caution">
          {newest.message.what} {newest.message.hint}
        </p>
      ) : newest.found ? (
        <>
          <p>
            <strong>{newest.found.words}</strong>{" "}
            <span className="small quiet">
              Tried once each, with at most {newest.found.rows.map(count).join(" and ")} rows
              {newest.of_now ? "" : "; the comparison has changed since"}.
            </span>
          </p>
          {wrong.length > 0 && (
            <ul>
              {wrong.map((lane) => (
                <li key={lane.lane}>
                  <Glyph place={comparison.marks[lane.lane] ?? 0} size={13} />{" "}
                  <Link to={`/comparisons/${comparison.id}/approaches?lane=${lane.lane}`}>
                    {lane.name}
                  </Link>
                  : {lane.trouble || lane.reasons.join(" ") || lane.state}
                </li>
              ))}
            </ul>
          )}
          <details className="small quiet">
            <summary>times</summary>
            {newest.found.lanes.map((lane) => `${lane.name} ${seconds(lane.elapsed_s)}`).join(", ")}
          </details>
        </>
      ) : (
        <p className="quiet">Trying all lanes was stopped.</p>
      )}
    </section>
  );
}
