/** The plan as sentences whose parts can be changed where they stand. */
import { InputNumber, Select } from "antd";
import type { Comparison } from "../api/client";
import { BACKGROUNDS, LIMIT_BOUNDS, PLAN_BOUNDS, UNTIL_BOUNDS } from "../api/facts";
import { useRuntimes } from "../api/queries";
import { count, plural } from "../ui/units";
import { alike, type KnobValue, type PlanDraft, steps, together, typedSize } from "./plan";

type Props = {
  comparison: Comparison;
  plan: PlanDraft;
  lanes: number;
  cores: number | undefined;
  onChange: (part: Partial<PlanDraft>) => void;
};

const GIB = 2 ** 30;
/** The most of a limit that a person would write, where the core sets none that low. */
const MOST = { cpu: 1e6, gib: 1024 };

export function Sentence({ comparison, plan, lanes, cores, onChange }: Props) {
  const { data: runtimes } = useRuntimes();
  const others = (runtimes?.runtimes ?? []).map((one) => one.name);
  const number = (
    label: string,
    value: number | null,
    take: (value: number | null) => void,
    range: { min: number; max: number; placeholder?: string },
  ) => (
    <InputNumber
      className="inline-number"
      variant="underlined"
      size="small"
      controls={false}
      value={value}
      {...range}
      aria-label={label}
      style={{
        width: `${Math.max(2, String(value ?? range.placeholder ?? "").length) * 0.62 + 1.5}em`,
      }}
      onChange={(v) => (v !== null || range.placeholder) && take(v)}
    />
  );
  const sure = (label: string, value: number, key: keyof PlanDraft, min: number, max: number) =>
    number(label, value, (v) => onChange({ [key]: v }), { min, max });
  const several = <T extends string | number>(
    label: string,
    values: T[],
    options: { value: T; label: string }[],
    take: (values: T[]) => void,
  ) => (
    <Select
      mode="multiple"
      variant="underlined"
      size="small"
      className="condition"
      popupMatchSelectWidth={false}
      aria-label={label}
      value={values}
      options={options}
      onChange={(chosen) => chosen.length > 0 && take(chosen)}
    />
  );
  const one = <T extends string>(
    label: string,
    value: NoInfer<T>,
    options: Record<T, string>,
    take: (value: NoInfer<T>) => void,
  ) => (
    <Select
      variant="underlined"
      size="small"
      className="condition"
      popupMatchSelectWidth={false}
      aria-label={label}
      value={value}
      options={Object.entries(options).map(([key, words]) => ({
        value: key as T,
        label: words as string,
      }))}
      onChange={take}
    />
  );
  const free = Object.entries(comparison.knobs).filter(
    ([knob]) => !plan.points.some((point) => knob in point),
  );
  const going = alike(plan);
  const coreCounts = Array.from({ length: cores ?? 1 }, (_, i) => i + 1);
  return (
    <>
      <p className="sentence">
        {plan.untilSure ? (
          <>
            {one("Rule of rounds", "sure", { number: "a number of", sure: "as many" }, (rule) =>
              onChange({ untilSure: rule === "sure" }),
            )}{" "}
            rounds until every interval is narrower than{" "}
            {sure("Narrower than, per cent", plan.narrower, "narrower", 0.5, 100)}%, at most{" "}
            {sure("Rounds at most", plan.atMost, "atMost", ...UNTIL_BOUNDS.at_most)} or{" "}
            {sure("Minutes at most", plan.minutes, "minutes", 0.1, UNTIL_BOUNDS.minutes[1])}{" "}
            minutes,
          </>
        ) : (
          <>
            {sure("Rounds", plan.rounds, "rounds", ...PLAN_BOUNDS.rounds)}
            {one(
              "Rule of rounds",
              "number",
              { number: plan.rounds === 1 ? "round" : "rounds", sure: "rounds until precise" },
              (rule) => onChange({ untilSure: rule === "sure" }),
            )}
          </>
        )}{" "}
        of {plural(lanes, "lane")} in balanced order, each run in a fresh process,{" "}
        {sure("Warm-ups", plan.warmUps, "warmUps", ...PLAN_BOUNDS.warm_ups)}
        {plan.warmUps === 1 ? "warm-up" : "warm-ups"}, up to{" "}
        {sure("Limit of time in seconds", plan.seconds, "seconds", 0.1, LIMIT_BOUNDS.seconds[1])}s
        and{" "}
        {sure(
          "Limit of memory in GiB",
          plan.memoryGiB,
          "memoryGiB",
          0.05,
          Math.min(MOST.gib, LIMIT_BOUNDS.memory_bytes[1] / GIB),
        )}
        GiB a run
        {plan.points.length > 0 && (
          <span data-testid="points">
            , at {plan.points.map((point) => pointWords(point)).join("; ")}
            <button
              type="button"
              className="without"
              aria-label="Choose values of each knob instead"
              title="choose values of each knob instead"
              onClick={() => onChange({ points: [] })}
            >
              ×
            </button>
          </span>
        )}
        {free.map(([knob, values]) => (
          <span key={knob}>
            , {knob} at{" "}
            <Select
              mode={values.every((value) => typeof value === "number") ? "tags" : "multiple"}
              variant="underlined"
              size="small"
              className="knob-values"
              title="Choose, or type a size, or a range: 1_000..1_000_000/3 is three a decade"
              aria-label={`Values of ${knob}`}
              placeholder={words(values[0])}
              value={plan.knobs[knob] as (string | number)[] | undefined}
              options={values.map((value) => ({
                value: value as string | number,
                label: words(value),
              }))}
              onChange={(given: KnobValue[]) => {
                const numbers = values.every((value) => typeof value === "number");
                const chosen = numbers ? given.flatMap((value) => typedSize(value) ?? []) : given;
                const others = Object.fromEntries(
                  Object.entries(plan.knobs).filter(([name]) => name !== knob),
                );
                onChange({ knobs: chosen.length ? { ...others, [knob]: chosen } : others });
              }}
            />
          </span>
        ))}
        {going.length > 0 && (
          <>
            ,{" "}
            {one(
              "How values go",
              "each",
              { each: "each with each", together: "the first with the first, and so on" },
              (how) => how === "together" && onChange(together(plan, going)),
            )}
          </>
        )}
        {steps(plan) && !plan.untilSure && (
          <>
            ,{" "}
            {one(
              "Order of sizes",
              plan.order,
              {
                mixed: "sizes mixed in every round",
                up: "from small to large, leaving lanes behind that would break a limit",
                search: "these first, then new ones where the lead changes",
              },
              (order) => onChange({ order }),
            )}
            {plan.order === "search" && (
              <>
                {" "}
                until it is known within {sure(
                  "Within, in percent",
                  plan.within,
                  "within",
                  1,
                  99,
                )}{" "}
                %, for{" "}
                {sure("Minutes of the search", plan.searchMinutes, "searchMinutes", 0.1, 1440)}{" "}
                minutes at the most
              </>
            )}
          </>
        )}
        .
      </p>
      <p className="sentence conditions">
        Input files{" "}
        {several(
          "State of the cache",
          plan.cache,
          [
            { value: "warm" as const, label: "warm (read once before)" },
            { value: "cold" as const, label: "cold (evicted before)" },
          ],
          (cache) => onChange({ cache }),
        )}
        , threads{" "}
        {several(
          "Threads",
          plan.threads.map((n) => n ?? 0),
          [
            { value: 0, label: "as each library likes" },
            ...coreCounts.map((n) => ({ value: n, label: String(n) })),
          ],
          (threads) => onChange({ threads: threads.map((n) => n || null) }),
        )}
        , on{" "}
        {one(
          "Cores",
          String(plan.cores ?? 0),
          Object.fromEntries([
            ["0", "any core"],
            ...coreCounts.map((n) => [String(n), plural(n, "pinned core")]),
          ]) as Record<string, string>,
          (n) => onChange({ cores: Number(n) || null }),
        )}
        , beside{" "}
        {several(
          "Background load",
          plan.background,
          BACKGROUNDS.map((load) => ({
            value: load,
            label: load === "quiet" ? "nothing else" : load,
          })),
          (background) => onChange({ background }),
        )}
        {others.length > 0 && (
          <>
            , Python lanes in{" "}
            {several(
              "Interpreters",
              plan.runtime,
              ["own", ...others].map((name) => ({
                value: name,
                label: name === "own" ? "each its own interpreter" : name,
              })),
              (runtime) => onChange({ runtime }),
            )}
          </>
        )}
        , the approach called{" "}
        {one(
          "Calls",
          plan.calls,
          {
            once: "once a process",
            several: "several times a process",
            repeated: "repeated when short",
          },
          (calls) => onChange({ calls }),
        )}
        {plan.calls === "several" && (
          <>
            {" "}
            (
            {sure(
              "Calls in one process",
              plan.callsPerProcess,
              "callsPerProcess",
              2,
              PLAN_BOUNDS.calls_per_process[1],
            )}{" "}
            times)
          </>
        )}
        {plan.calls === "repeated" && (
          <>
            {" "}
            (until{" "}
            {sure(
              "Shortest run in ms",
              plan.shortestMs,
              "shortestMs",
              1,
              1000 * PLAN_BOUNDS.min_sample_s[1],
            )}{" "}
            ms)
          </>
        )}
        ; no run beyond{" "}
        {number(
          "Limit of CPU time in seconds",
          plan.cpuSeconds,
          (v) => onChange({ cpuSeconds: v }),
          {
            min: 0.01,
            max: MOST.cpu,
            placeholder: "any",
          },
        )}
        s of CPU time,{" "}
        {sure("Limit of files in GiB", plan.writtenGiB, "writtenGiB", 0.001, MOST.gib)} GiB of
        files, {sure("Limit of processes", plan.processes, "processes", ...LIMIT_BOUNDS.processes)}{" "}
        processes; files that lanes leave are{" "}
        {one(
          "Files that lanes leave",
          plan.keepFiles ? "kept" : "removed",
          { removed: "removed", kept: "kept with the first run's results" },
          (what) => onChange({ keepFiles: what === "kept" }),
        )}
        . Runs that something else disturbs for more than{" "}
        {sure("Disturbed for more than, per cent", plan.disturbedShare, "disturbedShare", 0, 100)}%
        of their time are done again, up to{" "}
        {sure("Runs done again, per cent", plan.disturbedRepeat, "disturbedRepeat", 0, 1000)}% of
        the planned runs and{" "}
        {sure("Minutes for that", plan.disturbedMinutes, "disturbedMinutes", 0, 1440)} minutes.
      </p>
    </>
  );
}

function pointWords(point: Record<string, KnobValue>): string {
  const told = Object.entries(point).map(([knob, value]) => `${knob} ${words(value)}`);
  return told.join(" with ");
}

function words(value: unknown): string {
  return typeof value === "number" ? count(value) : String(value);
}
