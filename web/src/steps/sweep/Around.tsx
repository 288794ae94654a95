/** What stands round the lanes of a drawing: patience, target, who leads, names. */
import type { Comparison } from "../../api/client";
import { glyphPath, laneColour } from "../../lanes/mark";
import { BANDS } from "../../plot/time";
import { count } from "../../ui/units";
import { laneName, type Lead, type Measure, MEASURES } from "./data";
import { PAD, RIBBON, type Scale } from "./geometry";

const NAME_LINE = 15;
const LONGEST_NAME = 22;

/** The bands of patience as stretches of the axis of times. */
export function Patience(props: {
  y: Scale;
  from: number;
  until: number;
  bottom: number;
  small: boolean;
}) {
  const { y, from, until, bottom, small } = props;
  return (
    <g aria-hidden="true" className="patience">
      {BANDS.map((band, place) => {
        const high = Math.max(PAD.top, Number.isFinite(band.until) ? y(band.until) : PAD.top);
        const start = BANDS[place - 1]?.until ?? 0;
        const low = Math.min(bottom, start > 0 ? y(start) : bottom);
        if (!(low > high)) return null;
        return (
          <g key={band.word}>
            <rect
              x={from}
              width={until - from}
              y={high}
              height={low - high}
              fill={`var(--band-${place})`}
              opacity={0.5}
            />
            {!small && low - high > 18 && (
              <text x={until - 6} y={low - 6} textAnchor="end" className="patience-word">
                {band.word}
              </text>
            )}
          </g>
        );
      })}
    </g>
  );
}

export function Target(props: {
  comparison: Comparison;
  measure: Measure;
  y: Scale;
  from: number;
  until: number;
}) {
  const { comparison, measure, y, from, until } = props;
  const { targets } = comparison;
  const target =
    measure === "elapsed" ? targets.elapsed : measure === "peak_memory" ? targets.memory : null;
  if (!target || y(target) < PAD.top || !Number.isFinite(y(target))) return null;
  return (
    <g data-testid="sweep-target">
      <line
        x1={from}
        x2={until}
        y1={y(target)}
        y2={y(target)}
        stroke="var(--target)"
        strokeDasharray="5 3"
      />
      <text x={from + 6} y={y(target) - 5} className="foot-word target">
        target {MEASURES[measure].show(target)}
      </text>
    </g>
  );
}

/** The lane that leads, as a ribbon below the axis, and where the lead changes, by name. */
export function Leads(props: {
  comparison: Comparison;
  lead: Lead;
  x: Scale;
  bottom: number;
  ends: [number, number];
  small: boolean;
}) {
  const { comparison, lead, x, bottom, ends, small } = props;
  const name = (id: string) => laneName(comparison, id);
  return (
    <g data-testid="lead">
      {lead.regimes.map((regime) => {
        const from = x(regime.from_size ?? ends[0]);
        const until = x(regime.until_size ?? ends[1]);
        const place = comparison.marks[regime.lane] ?? 0;
        return (
          <g key={`${regime.lane} ${from}`}>
            <rect
              x={from}
              width={Math.max(1, until - from)}
              y={bottom + 3}
              height={RIBBON}
              fill={laneColour(place)}
            >
              <title>{`${name(regime.lane)} leads`}</title>
            </rect>
            {until - from > 24 && (
              <path
                d={glyphPath(place, 34)}
                transform={`translate(${(from + until) / 2},${bottom + 3 + RIBBON / 2})`}
                fill="var(--ground)"
              />
            )}
          </g>
        );
      })}
      {lead.crossings.map((crossing) => (
        <CrossingMark
          key={`${crossing.before} ${crossing.after} ${crossing.at}`}
          {...{ crossing, x, bottom }}
          id="crossing"
          word={!small}
        />
      ))}
    </g>
  );
}

/** Where another lane takes over, with the stretch that it lies in. */
export function CrossingMark(props: {
  crossing: { at: number; low: number | null; high: number | null };
  x: Scale;
  bottom: number;
  id: string;
  word: boolean;
}) {
  const { crossing, x, bottom, id, word } = props;
  const at = x(crossing.at);
  return (
    <g data-testid={id}>
      {crossing.low !== null && crossing.high !== null && (
        <rect
          x={x(crossing.low)}
          width={Math.max(1, x(crossing.high) - x(crossing.low))}
          y={PAD.top}
          height={bottom - PAD.top}
          fill="var(--line)"
          opacity={0.45}
        />
      )}
      <line
        x1={at}
        x2={at}
        y1={PAD.top - 4}
        y2={bottom}
        stroke="var(--ink-2)"
        strokeDasharray="3 3"
      />
      {word && (
        <text x={at} y={PAD.top - 9} textAnchor="middle" className="crossing-word">
          {count(Number(crossing.at.toPrecision(2)))}
        </text>
      )}
    </g>
  );
}

/** A lane whose name stands beside the end of its line. */
type Named = { id: string; name: string; place: number; spots: { value: number }[] };

/** Where names stand so that none touches another. */
function dodged(drawn: Named[], y: Scale): { d: Named; at: number }[] {
  const wanted = drawn.flatMap((d) => {
    const last = d.spots.at(-1);
    return last ? [{ d, at: y(last.value) }] : [];
  });
  const placed: { d: Named; at: number }[] = [];
  for (const { d, at } of wanted.sort((a, b) => a.at - b.at)) {
    const before = placed.at(-1)?.at ?? PAD.top - NAME_LINE;
    placed.push({ d, at: Math.max(at, before + NAME_LINE) });
  }
  return placed;
}

/** The names of the lanes beside their ends, moved apart where they would touch. */
export function Names(props: { drawn: Named[]; x: number; y: Scale; chosen: string | null }) {
  const { drawn, x, y, chosen } = props;
  const placed = dodged(drawn, y);
  return (
    <g className="lane-names">
      {placed.map(({ d, at }) => (
        <g
          key={d.id}
          transform={`translate(${x},${at})`}
          opacity={chosen && chosen !== d.id ? 0.4 : 1}
        >
          <path d={glyphPath(d.place, 44)} transform="translate(4,0)" fill={laneColour(d.place)} />
          <text x={14} y={4}>
            {d.name.length > LONGEST_NAME ? `${d.name.slice(0, LONGEST_NAME - 1)}…` : d.name}
            <title>{d.name}</title>
          </text>
        </g>
      ))}
    </g>
  );
}
