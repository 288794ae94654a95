/** What a finding can be pinned as: claims of several strengths, made from what was measured. */
import type { Claim, Comparison, Findings } from "../../api/client";
import { count, figures } from "../../ui/units";
import type { Lead } from "../sweep/data";

/** What may be claimed of two lanes: that one takes less at all, so many times, or within a range. */
export type PairStrength = "direction" | "factor" | "range";

/** A ratio above 1 with its interval. */
export type Interval = { low: number | null; high: number | null };

/** The larger factor of two bounds to two figures, rounded so that what was found lies within. */
const down = (value: number) => rounded(value, Math.floor);
const up = (value: number) => rounded(value, Math.ceil);

function rounded(value: number, to: (value: number) => number): number {
  const step = 10 ** (Math.floor(Math.log10(value)) - 1);
  return Number((to(value / step) * step).toPrecision(2));
}

/** The strengths that an interval bears out; only the direction where there is none. */
export function strengths({ low, high }: Interval): PairStrength[] {
  if (low === null || high === null || down(low) <= 1) return ["direction"];
  return ["direction", "factor", "range"];
}

/** What a claim of a strength adds, and how it is said: "at least 3.1 times faster". */
export function asserted(strength: PairStrength, { low, high }: Interval, less: string) {
  if (strength === "direction" || low === null || high === null) return { keys: {}, said: less };
  const least = down(low);
  if (strength === "factor")
    return { keys: { at_least: least }, said: `at least ${figures(least, 2)} times ${less}` };
  const most = up(high);
  return {
    keys: { between: [least, most] },
    said: `${figures(least, 2)} to ${figures(most, 2)} times ${less}`,
  };
}

const NONE = {
  lower: null,
  higher: null,
  measure: "elapsed",
  at_least: null,
  between: null,
  crossing: null,
  lane: null,
  meets: null,
  order: null,
  factor: null,
} satisfies Partial<Claim>;

/** A claim of which only some keys are told. */
export function claim(keys: Partial<Claim> & Pick<Claim, "text">): Claim {
  return { ...NONE, where: {}, conditions: "", ...keys };
}

/** Where findings hold: values of knobs, and the rest in words. */
export function whereFound(findings: Findings): Pick<Claim, "where" | "conditions"> {
  const knobs = Object.keys(findings.point);
  return {
    where: { ...findings.point } as Claim["where"],
    conditions: findings.conditions
      .filter((told) => !knobs.some((knob) => told.startsWith(`${knob} `)))
      .join(", "),
  };
}

/** Whether two claims assert the same of the same lanes, whatever their words and numbers. */
export function alike(a: Claim, b: Claim): boolean {
  const key = (c: Claim) =>
    JSON.stringify([
      [c.lower, c.higher, c.measure, c.lane, c.meets, c.order, c.crossing?.knob],
      Object.entries(c.where).sort(),
    ]);
  return key(a) === key(b);
}

/** Claims of all lanes at a point that the findings bear out: their order, and who meets a target. */
export function claimsFound(comparison: Comparison, findings: Findings): Claim[] {
  const lanes = findings.ranking.flatMap((id) => findings.lanes.filter((lane) => lane.id === id));
  const good = lanes.filter(
    (lane) => lane.state === "done" && lane.elapsed && lane.agreement?.agrees !== false,
  );
  const told: Claim[] = [];
  // Medians whose intervals lie apart; whether the order holds is judged when it is pinned.
  const apart = good.slice(1).every((lane, i) => {
    const [ahead, behind] = [good[i]?.elapsed?.high, lane.elapsed?.low];
    return ahead != null && behind != null && ahead < behind;
  });
  const where = whereFound(findings);
  if (good.length > 2 && apart) {
    told.push(
      claim({
        text: `From quickest to slowest: ${good.map((lane) => lane.name).join(", ")}`,
        order: good.map((lane) => lane.id),
        ...where,
      }),
    );
  }
  const target = comparison.targets.elapsed;
  for (const lane of target === null ? [] : good.slice(0, 3)) {
    const high = lane.elapsed?.high;
    if (high != null && target !== null && high <= target)
      told.push(
        claim({
          text: `${lane.name} meets the target of elapsed time`,
          lane: lane.id,
          meets: "elapsed",
          ...where,
        }),
      );
  }
  return told;
}

/** Claims that one lane passes another along a knob, for each change of hands that has bounds. */
export function crossingsFound(
  lead: Lead,
  knob: string,
  at: object,
  name: (lane: string) => string,
): Claim[] {
  return lead.measure !== "elapsed"
    ? []
    : lead.crossings.flatMap(({ before, after, low, high }) => {
        if (low === null || high === null) return [];
        const [from, until] = [down(low), up(high)];
        return [
          claim({
            text: `${name(after)} passes ${name(before)} between ${count(from)} and ${count(until)} of ${knob}`,
            lower: after,
            higher: before,
            crossing: { knob, low: from, high: until },
            where: { ...at } as Claim["where"],
          }),
        ];
      });
}
