/** What a sweep says: who leads where, how good a rule that is, how each lane grows. */
import { Button } from "antd";
import type { Comparison } from "../../api/client";
import { Glyph } from "../../lanes/mark";
import { Copy, withConditions } from "../../ui/Copy";
import { download } from "../../ui/download";
import { chosenBytes, count, plural, seconds } from "../../ui/units";
import { PinOneOf } from "../findings/Claims";
import { crossingsFound } from "../findings/claims";
import { type Along, laneName, type Lanes, type Lead, type Measure, MEASURES } from "./data";

type Props = { comparison: Comparison; along: Along; measure: Measure };

export function Rule({ comparison, along, measure }: Props) {
  const lead = along.leads.find((one) => one.measure === measure);
  if (!lead) return null;
  const words = measure === "elapsed" ? along.words : lead.words;
  return (
    <p className="conclusion" data-testid="sweep-words">
      {words} <Copy what="finding" text={withConditions(words, atWords(along))} />{" "}
      {lead.rule && (
        <span className="small quiet">
          Of {lead.rule.held_out} sizes, each left out in its turn, the others name a right lane for{" "}
          {lead.rule.named_right}.{" "}
        </span>
      )}
      <Button
        size="small"
        type="link"
        onClick={() =>
          download("rule.txt", "text/plain;charset=utf-8", ruleText(lead, along, comparison))
        }
      >
        Rule as text
      </Button>
      <Button
        size="small"
        type="link"
        onClick={() => download("rule.json", "application/json", ruleJson(lead, along, comparison))}
      >
        as JSON
      </Button>
      <PinOneOf
        comparison={comparison}
        found={crossingsFound(lead, along.knob, along.at, (id) => laneName(comparison, id))}
      />
    </p>
  );
}

/** The other knobs and conditions of a sweep, one a text. */
function atWords(along: Along): string[] {
  return Object.entries(along.at).map(([name, value]) => `${name} ${String(value)}`);
}

/** The regimes as a small table of decisions for a program to read. */
export function ruleJson(lead: Lead, along: Along, comparison: Comparison): string {
  const rule = lead.regimes.map((regime) => ({
    from: regime.from_size,
    until: regime.until_size,
    lane: regime.lane,
    name: laneName(comparison, regime.lane),
    no_worse: regime.level,
    not_told_apart_at: regime.undecided.map((one) => ({ size: one.size, from: one.lanes })),
  }));
  const { knob, at } = along;
  return JSON.stringify({ knob, at, measure: lead.measure, rule, held_out: lead.rule }, null, 1);
}

/** The same for people: a line a stretch. */
export function ruleText(lead: Lead, along: Along, comparison: Comparison): string {
  const size = (value: number) => count(Number(value.toPrecision(2)));
  const rows = lead.regimes.map(({ from_size, until_size, lane }) => {
    const from = from_size === null ? "" : `from ${size(from_size)}`;
    const until = until_size === null ? "" : `below ${size(until_size)}`;
    const where = [from, until].filter(Boolean).join(" ") || "any";
    return `${along.knob} ${where}: ${laneName(comparison, lane)}`;
  });
  const at = atWords(along);
  const held = lead.rule
    ? [`right at ${lead.rule.named_right} of ${lead.rule.held_out} sizes left out`]
    : [];
  const head = [`${comparison.name}: least ${MEASURES[lead.measure as Measure].word}`, ...at];
  return [head.join(", "), ...rows, ...held, ""].join("\n");
}

/** Where runs and time went, when a search chose some of the sizes, or rounds at them. */
export function Spent({ along }: { along: Along }) {
  const searched = along.spent.filter((one) => one.searched);
  const all = along.spent.reduce((n, one) => n + one.runs, 0);
  const time = searched.reduce((n, one) => n + one.seconds, 0);
  if (!searched.length) {
    return along.searched ? (
      <p className="small quiet" data-testid="spent">
        {along.searched}
      </p>
    ) : null;
  }
  const runs = searched.reduce((n, one) => n + one.runs, 0);
  return (
    <p className="small quiet" data-testid="spent">
      {along.searched} The search added {plural(searched.length, "size")} (
      {searched.map((one) => count(one.size)).join(", ")}): {runs} of {plural(all, "run")},{" "}
      {seconds(time)}.
    </p>
  );
}

type GrowthProps = {
  comparison: Comparison;
  lanes: Lanes;
  measure: Measure;
  along: Along;
  chosen: string | null;
  onChoose: (lane: string | null) => void;
};

/** How each lane grows, in words; a lane that is chosen shows its law and its runs about it. */
export function Growths({ comparison, lanes, measure, along, chosen, onChoose }: GrowthProps) {
  const { show } = MEASURES[measure];
  const told = lanes.flatMap((lane) => {
    const growth = along.growths.find((g) => g.lane === lane.id && g.measure === measure);
    return growth ? [{ lane, growth }] : [];
  });
  if (!told.length) return null;
  return (
    <ul className="growths" data-testid="growths">
      {told.map(({ lane, growth }) => {
        const ahead = growth.ahead.at(-1);
        const left = along.left_behind.find((one) => one.lane === lane.id);
        const wall = measure === "peak_memory" && along.walls.find((one) => one.lane === lane.id);
        return (
          <li key={lane.id}>
            <button
              className="text"
              aria-pressed={chosen === lane.id}
              onClick={() => onChoose(chosen === lane.id ? null : lane.id)}
            >
              <Glyph place={comparison.marks[lane.id] ?? 0} size={13} />{" "}
              <strong>{lane.name}</strong>
            </button>{" "}
            <span className="quiet">{growth.words}</span>
            {growth.laws.length > 0 && (
              <span className="small faint">
                {" "}
                {ahead &&
                  `At ${count(Number(ahead.size.toPrecision(6)))}, extrapolated: ${show(ahead.value)} (${show(ahead.low)} to ${show(ahead.high)}).`}
              </span>
            )}
            {left && (
              <span className="small caution">
                {" "}
                Dropped at {along.knob} {count(left.from_size)}
                {left.expected !== null && `, where ${seconds(left.expected)} were expected`}.
              </span>
            )}
            {wall && (
              <span className="small quiet">
                {" "}
                It would reach the limit of {chosenBytes(wall.limit_bytes)} at {along.knob}{" "}
                {count(Math.round(wall.size))} ({count(Math.round(wall.low))} to{" "}
                {count(Math.round(wall.high))}).
              </span>
            )}
          </li>
        );
      })}
    </ul>
  );
}
