/** When trials of a comparison are asked for by themselves: every so often, in some hours. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, InputNumber, Popover, Select } from "antd";
import { useState } from "react";
import { api, taken, type Problem, type Schemas } from "../api/client";
import { Trouble } from "../ui/Trouble";
import { localMoment, momentWords } from "../ui/units";

type Shape = Schemas["ScheduleShape"];
type Kept = Schemas["KeptSchedule"];
type Props = { comparison: number; plan: Schemas["PlanRequest"] };

const DAY = 24;
const OFTEN = [
  { value: 1, label: "every hour" },
  { value: 6, label: "every 6 hours" },
  { value: DAY, label: "every day" },
  { value: 7 * DAY, label: "every week" },
  { value: 28 * DAY, label: "every four weeks" },
];
const NIGHT = { first: 22, until: 6 };

function often(hours: number): string {
  return OFTEN.find((one) => one.value === hours)?.label ?? `every ${hours} hours`;
}

export function Schedule({ comparison, plan }: Props) {
  const cache = useQueryClient();
  const [open, setOpen] = useState(false);
  const at = { params: { path: { comparison } } };
  const key = ["schedule", comparison];
  const { data } = useQuery({
    queryKey: key,
    queryFn: () => taken(api.GET("/api/comparisons/{comparison}/schedule/", at)),
  });
  const change = useMutation<Shape, Problem, Schemas["ScheduleAskedRequest"] | null>({
    mutationFn: (body) =>
      taken(
        body
          ? api.PUT("/api/comparisons/{comparison}/schedule/", { ...at, body })
          : api.DELETE("/api/comparisons/{comparison}/schedule/", at),
      ),
    onSuccess: (found) => {
      cache.setQueryData(key, found);
      setOpen(false);
    },
  });
  if (!data) return null;
  const kept = data.schedule;
  return (
    <span className="small quiet" data-testid="schedule">
      {kept && `${words(kept)} `}
      <Popover
        trigger="click"
        placement="bottomLeft"
        open={open}
        onOpenChange={setOpen}
        content={
          open ? (
            <Form
              kept={kept}
              plan={plan}
              pending={change.isPending}
              error={change.error}
              onPut={change.mutate}
            />
          ) : null
        }
      >
        <Button size="small" type="link" data-testid="schedule-open">
          {kept ? "Change…" : "At times…"}
        </Button>
      </Popover>
    </span>
  );
}

/** "Every day between 22 and 6 o\u2019clock, next on 3 May, 22:00. Trial 7 was asked for." */
function words(kept: Kept): string {
  const hours = kept.hours ? ` between ${kept.hours.first} and ${kept.hours.until} o’clock` : "";
  const rule = `${often(kept.every_hours)}${hours}`;
  const told = kept.last ? ` ${kept.last}` : "";
  return `${rule[0]?.toUpperCase()}${rule.slice(1)}, next on ${momentWords(kept.next_at)}.${told}`;
}

type FormProps = {
  kept: Kept | null;
  plan: Schemas["PlanRequest"];
  pending: boolean;
  error: Problem | null;
  onPut: (asked: Schemas["ScheduleAskedRequest"] | null) => void;
};

function Form({ kept, plan, pending, error, onPut }: FormProps) {
  const [every, setEvery] = useState(kept?.every_hours ?? DAY);
  const [next, setNext] = useState(() =>
    localMoment(kept ? new Date(kept.next_at) : new Date(Date.now() + 60 * 60_000)),
  );
  const [hours, setHours] = useState(kept?.hours ?? null);
  const hour = (label: string, part: "first" | "until") => (
    <InputNumber
      size="small"
      min={0}
      max={23}
      value={(hours ?? NIGHT)[part]}
      aria-label={label}
      className="hour"
      onChange={(value) => setHours({ ...(hours ?? NIGHT), [part]: value ?? 0 })}
    />
  );
  return (
    <div className="more-ways" data-testid="schedule-form">
      <p>
        Run this plan, with the comparison as it is then,{" "}
        <Select
          size="small"
          aria-label="How often"
          value={every}
          popupMatchSelectWidth={false}
          options={
            OFTEN.some((one) => one.value === every)
              ? OFTEN
              : [...OFTEN, { value: every, label: often(every) }]
          }
          onChange={setEvery}
        />
      </p>
      <p>
        <label>
          first on{" "}
          <input
            type="datetime-local"
            aria-label="First on"
            value={next}
            onChange={(event) => setNext(event.target.value)}
          />
        </label>
      </p>
      <p>
        <label>
          <input
            type="checkbox"
            checked={hours !== null}
            onChange={(event) => setHours(event.target.checked ? NIGHT : null)}
          />{" "}
          only between
        </label>{" "}
        {hour("From the hour", "first")} and {hour("Until the hour", "until")} o’clock, by the
        machine’s clock: it pauses when they are over and goes on in the next.
      </p>
      <p className="row">
        <Button
          size="small"
          type="primary"
          loading={pending}
          disabled={!next}
          data-testid="put-schedule"
          onClick={() =>
            onPut({ plan, every_hours: every, next_at: new Date(next).toISOString(), hours })
          }
        >
          {kept ? "Change it" : "Do that"}
        </Button>
        {kept && (
          <Button size="small" danger onClick={() => onPut(null)}>
            No more
          </Button>
        )}
      </p>
      <Trouble error={error} />
    </div>
  );
}
