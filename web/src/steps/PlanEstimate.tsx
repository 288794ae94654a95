/** How long the plan will take, what that rests on, and the rounds that fit into a time. */
import { useQuery } from "@tanstack/react-query";
import { Button, Popover, Tooltip } from "antd";
import { useEffect, useState } from "react";
import { api, taken, type Comparison, type Schemas } from "../api/client";
import { useNow } from "../api/queries";
import { bytes, plural, seconds, trimmed } from "../ui/units";

type Estimate = Schemas["Estimate"];
type Props = {
  comparison: Comparison;
  plan: Schemas["PlanRequest"];
  /** Set how many rounds there are. */
  onRounds: (rounds: number) => void;
};

const SETTLE_MS = 600;
const MINUTES = [1, 3, 10, 30, 60];
const RESTS: Record<Schemas["LaneEstimate"]["rests_on"], string> = {
  measured: "runs like these",
  sizes: "how it grows",
  "another size": "runs at one other size",
  "not known": "nothing: try it first",
};

export function PlanEstimate({ comparison, plan, onRounds }: Props) {
  const timing = useNow().data?.timing ?? true;
  const wanted = JSON.stringify(plan);
  const [asked, setAsked] = useState(wanted);
  useEffect(() => {
    const timer = window.setTimeout(() => setAsked(wanted), SETTLE_MS);
    return () => window.clearTimeout(timer);
  }, [wanted]);
  const { data: found } = useQuery({
    queryKey: ["estimate", comparison.id, comparison.changed_at, asked],
    queryFn: () =>
      taken(
        api.POST("/api/comparisons/{comparison}/estimate/", {
          params: { path: { comparison: comparison.id } },
          body: { plan: JSON.parse(asked) as Schemas["PlanRequest"], minutes: null },
        }),
      ),
    // It draws rows to tell what data takes, and would disturb what is timed.
    enabled: !timing,
    retry: false,
  });
  if (!found || asked !== wanted) return null;
  const names = new Map(comparison.lanes.map((lane) => [lane.id, lane.name]));
  const unknown = found.lanes.filter((lane) => lane.rests_on === "not known");
  if (unknown.length === found.lanes.length) return null;
  return (
    <span className="small quiet plan-estimate" data-testid="estimate">
      <Popover placement="bottom" content={<ByLane found={found} names={names} />}>
        <span className="told-time">{words(found)}</span>
      </Popover>
      {found.breaking.length > 0 && (
        <span className="caution" data-testid="breaking">
          ; {listed(found.breaking, names)} will break the limit of memory at the largest
        </span>
      )}
      {found.perhaps.length > 0 && `; ${listed(found.perhaps, names)} may break it`}
      {unknown.length > 0 && `, and ${plural(unknown.length, "lane")} that nothing is known of`}
      {found.round_s > 0 && (
        <>
          {"; in "}
          {MINUTES.map((minutes) => ({ minutes, rounds: fitting(found, plan, minutes) }))
            .filter(({ rounds }) => rounds >= 3 && rounds <= 1000)
            .slice(0, 3)
            .map(({ minutes, rounds }) => (
              <Tooltip key={minutes} title={`Run ${plural(rounds, "round")}`}>
                <Button size="small" type="link" onClick={() => onRounds(rounds)}>
                  {minutes} min: {plural(rounds, "round")}
                </Button>
              </Tooltip>
            ))}
        </>
      )}
    </span>
  );
}

function listed(lanes: string[], names: Map<string, string>): string {
  return lanes.map((lane) => names.get(lane) ?? lane).join(", ");
}

/** "about 2.1 min (1.6 to 2.9 min)". */
function words(found: Estimate): string {
  const time = (value: number) => trimmed(seconds(Number(value.toPrecision(2))));
  return `About ${time(found.seconds)} (${time(found.low)} to ${time(found.high)})`;
}

function fitting(found: Estimate, plan: Schemas["PlanRequest"], minutes: number): number {
  const around = found.seconds - found.lanes.reduce((sum, lane) => sum + lane.seconds, 0);
  return Math.floor((60 * minutes - around) / found.round_s) - (plan.warm_ups ?? 0);
}

function ByLane({ found, names }: { found: Estimate; names: Map<string, string> }) {
  return (
    <table className="plain small">
      <tbody>
        {found.lanes.map((lane) => (
          <tr key={lane.lane}>
            <td>{names.get(lane.lane) ?? lane.lane}</td>
            <td className="nowrap">
              {lane.rests_on === "not known"
                ? "not known"
                : `${seconds(lane.seconds)} (${seconds(lane.low)} to ${seconds(lane.high)})`}
            </td>
            <td className="quiet">by {RESTS[lane.rests_on]}</td>
            <td className="nowrap">{lane.memory && `holds ${bytes(lane.memory.value)}`}</td>
          </tr>
        ))}
        {found.data_s > 0.5 && (
          <tr>
            <td>making data</td>
            <td>{seconds(found.data_s)}</td>
            <td />
            <td />
          </tr>
        )}
      </tbody>
    </table>
  );
}
