/** A ratio as it is told everywhere: its verdict with the interval that the verdict is read off. */
import type { Ratio } from "../api/client";
import { figures, plural } from "../ui/units";

export type ToldRatio = {
  /** "3.86×", the way round that the verdict says; null where it says none. */
  factor: string | null;
  /** "faster", "not told apart"... */
  verdict: string;
  /** "3.1 to 4.2", the same way round; null where there is none. */
  span: string | null;
};

const TURNED = ["slower", "more"];
const PLAIN = ["not told apart", "no difference that matters"];

export function isApart(ratio: Ratio): boolean {
  return !PLAIN.includes(ratio.verdict);
}

export function toldRatio(ratio: Ratio): ToldRatio {
  const turned = TURNED.includes(ratio.verdict);
  const { low, high } = ratio;
  const ends =
    low === null || high === null || low === high
      ? null
      : turned
        ? [1 / high, 1 / low]
        : [low, high];
  const value = turned ? 1 / ratio.value : ratio.value;
  return {
    factor: isApart(ratio) ? `${ratio.bound ? "≥ " : ""}${figures(value)}×` : null,
    verdict: ratio.verdict,
    span: ends && ends.map((end) => figures(end, 2)).join(" to "),
  };
}

/** In short, without its interval: "3.86× slower", "not told apart". */
export function shortRatio(ratio: Ratio): string {
  const told = toldRatio(ratio);
  return [told.factor, told.verdict].filter(Boolean).join(" ");
}

const ASKED: Record<Ratio["question"], string> = {
  quickest: "bounds that one lane takes less than each other one",
  baseline: "bounds all ratios to the baseline at once",
  pair: "bounds all pairs of lanes at once",
  change: "bounds the changes of all lanes at once",
};

/** What the interval bounds, and how many rounds more would tell. */
export function aboutRatio(ratio: Ratio): string {
  const told = toldRatio(ratio);
  const span = told.span ? `${told.span} times: the interval ${ASKED[ratio.question]} at 95 %` : "";
  const more =
    ratio.rounds_more === null ? "" : `about ${plural(ratio.rounds_more, "more round")} would tell`;
  return [span, more].filter(Boolean).join("; ");
}
