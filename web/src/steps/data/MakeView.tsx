/** Making the data ahead of a trial: in which forms, how far it is, what it took. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, Checkbox, Progress } from "antd";
import { useEffect, useState } from "react";
import { api, taken, type LookTable, type Problem, type Schemas } from "../../api/client";
import { underWay } from "../../ui/job";
import { Trouble } from "../../ui/Trouble";
import { bytes, count, figures, seconds, trimmed } from "../../ui/units";
import { Profile } from "./Profile";

const ASK_MS = 500;
const PROFILE = "profile every row";

type Props = { comparison: number; tables: LookTable[]; costs: Schemas["Costs"] | undefined };

export function MakeView({ comparison, tables, costs }: Props) {
  const cache = useQueryClient();
  const key = ["making", comparison];
  const at = { params: { path: { comparison } } };
  const making = useQuery({
    queryKey: key,
    queryFn: () => taken(api.GET("/api/comparisons/{comparison}/data/making/", at)),
    refetchInterval: (query) => (underWay(query.state.data?.newest?.state) ? ASK_MS : false),
  });
  const newest = making.data?.newest ?? null;
  const [chosen, setChosen] = useState<string[]>(["parquet"]);
  const done = (answer: Schemas["Makings"]) => cache.setQueryData(key, answer);
  const make = useMutation<Schemas["Makings"], Problem>({
    mutationFn: () =>
      taken(
        api.POST("/api/comparisons/{comparison}/data/making/", {
          ...at,
          body: {
            tables: null,
            knobs: {},
            forms: chosen.filter((form) => form !== PROFILE),
            profile: chosen.includes(PROFILE),
          },
        }),
      ),
    onSuccess: done,
  });
  const stop = useMutation<Schemas["Makings"], Problem>({
    mutationFn: () => taken(api.DELETE("/api/comparisons/{comparison}/data/making/", at)),
    onSuccess: done,
  });
  const busy = underWay(newest?.state);
  const state = newest?.state;
  useEffect(() => {
    if (state && !underWay(state)) {
      void cache.invalidateQueries({ queryKey: ["costs", comparison] });
    }
  }, [state, cache, comparison]);
  const forms = costs?.tables[0]?.forms.map((cost) => cost.form) ?? [];
  return (
    <div className="make-view">
      <p className="small quiet">
        A trial makes what its lanes need by itself. Make it here to see what it takes, or to have
        it ready.
      </p>
      <Checkbox.Group
        value={chosen}
        onChange={setChosen}
        options={[...forms, ...(costs?.databases ?? []), PROFILE]}
      />
      <div className="row">
        <Button
          type="primary"
          size="small"
          disabled={busy || chosen.length === 0}
          data-testid="make"
          onClick={() => make.mutate()}
        >
          {newest?.state === "stopped" ? "Go on" : "Make"}
        </Button>
        {busy && (
          <Button size="small" data-testid="stop-making" onClick={() => stop.mutate()}>
            Stop
          </Button>
        )}
        <span className="small quiet" data-testid="making-state">
          {newest && stateWords(newest)}
        </span>
      </div>
      {busy && newest?.progress && <HowFar progress={newest.progress} />}
      <Trouble
        error={(make.error ?? newest?.message ?? null) as Problem | null}
        id="make-problem"
      />
      {newest && newest.made.length > 0 && (
        <table className="plain">
          <thead>
            <tr>
              <th>table</th>
              <th>form</th>
              <th className="number">rows</th>
              <th className="number">on disk</th>
              <th className="number">took</th>
              <th className="number">rows a second</th>
            </tr>
          </thead>
          <tbody>
            {newest.made.map((made) => (
              <tr key={`${made.table} ${made.form}`}>
                <td>{made.table}</td>
                <td>
                  {made.form}
                  {typed(made.types) && <div className="small quiet">{typed(made.types)}</div>}
                </td>
                <td className="number">{count(made.rows)}</td>
                <td className="number">{bytes(made.size_bytes)}</td>
                <td className="number">{made.seconds ? seconds(made.seconds) : "as it is"}</td>
                <td className="number">
                  {made.seconds ? count(Number((made.rows / made.seconds).toPrecision(3))) : ""}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {tables.map((table) => {
        const profiles = newest?.profiles[table.table];
        return (
          profiles && (
            <section key={table.table} className="whole-profile">
              <h3>{table.table}, every row</h3>
              {profiles.map((profile) => (
                <div key={profile.name} className="column">
                  <span className="mono name cut">{profile.name}</span>
                  <span className="small quiet">
                    {profile.distinct_exact ? "" : "about "}
                    {count(rounded(profile))} different
                    {profile.quantiles && `, half below ${profile.quantiles[2]}`}
                    {profile.lengths && `, ${lengthWords(profile.lengths)}`}
                  </span>
                  <Profile profile={profile} />
                </div>
              ))}
            </section>
          )
        );
      })}
    </div>
  );
}

function HowFar({ progress }: { progress: Schemas["MakingProgress"] }) {
  const { table, form, rows, total, rows_per_second: rate, seconds_left: left } = progress;
  return (
    <div className="how-far small" data-testid="how-far">
      <Progress percent={(100 * rows) / total} showInfo={false} size="small" />
      <span>
        {table}, {form}: {count(rows)} of {count(total)} rows
        {rate && `, ${figures(rate / 1e6, 2)} million a second`}
        {left != null && left > 0 && `, ${trimmed(seconds(Number(left.toPrecision(2))))} left`}
      </span>
    </div>
  );
}

/** Different values with no more figures than an estimate bears. */
function rounded(profile: Schemas["Profile"]): number {
  return profile.distinct_exact ? profile.distinct : Number(profile.distinct.toPrecision(2));
}

function lengthWords([shortest, , longest]: number[]): string {
  return shortest === longest ? `${longest} characters` : `${shortest} to ${longest} characters`;
}

function stateWords(making: Schemas["MakingShape"]): string {
  if (making.state === "waiting") return "waiting for its turn";
  if (making.state === "running") return making.stop_asked ? "stopping" : "being made";
  if (making.state === "stopped") return "stopped; what is half made is gone on with";
  return making.state;
}

/** The engine's own type of each column of a loaded table. */
function typed(types: Record<string, string>): string {
  return Object.entries(types)
    .map(([name, word]) => `${name} ${word}`)
    .join(", ");
}
