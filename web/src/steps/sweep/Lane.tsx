/** One lane over a knob: its medians with their interval, its runs, and what lies beyond. */
import { area, line } from "d3-shape";
import { memo, useState } from "react";
import { useNavigate } from "react-router";
import { glyphPath, laneColour } from "../../lanes/mark";
import { type Along, findingsAt, type Measure, MEASURES, type Spot, valueWords } from "./data";
import { type Drawn, type Growth, PAD, type Scale } from "./geometry";

type LaneProps = {
  comparison: number;
  trial: number;
  knob: string;
  measure: Measure;
  x: Scale;
  y: Scale;
  small: boolean;
  drawn: Drawn;
  chosen: boolean;
  growth: Growth | undefined;
  left: Along["left_behind"][number] | undefined;
  onChoose: (lane: string) => void;
};

/** One lane: reached by Tab, its points by the arrow keys, a point's findings by Enter. */
/** Drawn anew only when something of it changes: choosing one leaves the others as they are. */
export const Lane = memo(function Lane(props: LaneProps) {
  const { comparison, trial, knob, measure, x, y, small, drawn, growth, left } = props;
  const navigate = useNavigate();
  const [here, setHere] = useState(0);
  const { show } = MEASURES[measure];
  const colour = laneColour(drawn.place);
  const own = drawn.spots;
  if (!own.length) return <g data-testid={`sweep-${drawn.id}`} />;
  const path = line<{ x: number; value: number }>()
    .x((s) => x(s.x))
    .y((s) => y(s.value));
  const band = area<Spot>()
    .x((s) => x(s.x))
    .y0((s) => y(s.low))
    .y1((s) => y(s.high));
  // One path for all runs of a lane: thousands of them are drawn as quickly as a few.
  const runs = own
    .map((s) => {
      const at = Math.round(x(s.x));
      return s.runs.map((run) => `M${at},${Math.round(y(run))}h0`).join("");
    })
    .join("");
  const last = own.at(-1);
  const beyond =
    growth && last
      ? [
          last,
          ...growth.ahead.map((p) => ({ x: p.size, value: p.value, low: p.low, high: p.high })),
        ]
      : [];
  const open = (spot: Spot) => void navigate(findingsAt(comparison, trial, spot.point.point));
  const onKey = (event: React.KeyboardEvent) => {
    const step = { ArrowRight: 1, ArrowLeft: -1 }[event.key];
    if (step) setHere(Math.min(own.length - 1, Math.max(0, here + step)));
    else if (event.key === "Enter" && own[here]) open(own[here]);
    else if (event.key === " ") props.onChoose(drawn.id);
    else return;
    event.preventDefault();
  };
  const spoken = own[here];
  const spotWords = (s: Spot) =>
    `${drawn.name}, ${knob} ${valueWords(s.point.point[knob])}: ${show(s.value)}`;
  return (
    <g
      data-testid={`sweep-${drawn.id}`}
      className={`sweep-lane ${props.chosen ? "chosen" : ""}`}
      tabIndex={0}
      role="button"
      aria-label={spoken ? spotWords(spoken) : drawn.name}
      onKeyDown={onKey}
    >
      <path d={band(own) ?? ""} fill={colour} opacity={0.13} />
      <path
        d={runs}
        stroke={colour}
        strokeWidth={3}
        strokeLinecap="round"
        opacity={0.28}
        data-testid="runs"
      />
      <path d={path(own) ?? ""} fill="none" stroke={colour} strokeWidth={small ? 1.4 : 1.8} />
      <path
        d={path(own) ?? ""}
        fill="none"
        stroke="transparent"
        strokeWidth={12}
        className="reach"
        onClick={() => props.onChoose(drawn.id)}
      />
      {beyond.length > 1 && (
        <g data-testid="ahead">
          <path
            d={
              area<(typeof beyond)[number]>()
                .x((s) => x(s.x))
                .y0((s) => y(s.low))
                .y1((s) => y(s.high))(beyond) ?? ""
            }
            fill={colour}
            opacity={0.07}
          />
          <path
            d={path(beyond) ?? ""}
            fill="none"
            stroke={colour}
            strokeWidth={1.4}
            strokeDasharray="5 4"
          />
        </g>
      )}
      {left?.expected != null && last && (
        <g data-testid="left-behind">
          <path
            d={`M${x(last.x)},${y(last.value)}L${x(left.from_size)},${y(left.expected)}`}
            stroke={colour}
            strokeDasharray="1 4"
            strokeLinecap="round"
            strokeWidth={2}
          />
          <path
            d="M-5,-5L5,5M-5,5L5,-5"
            transform={`translate(${x(left.from_size)},${Math.max(PAD.top, y(left.expected))})`}
            stroke={colour}
            strokeWidth={2}
          >
            <title>{`${drawn.name} was dropped here, where ${show(left.expected)} were expected`}</title>
          </path>
        </g>
      )}
      {own.map((s, place) => (
        <path
          key={s.x}
          className={`spot ${place === here ? "here" : ""}`}
          d={glyphPath(drawn.place, small ? 34 : 60)}
          transform={`translate(${x(s.x)},${y(s.value)})`}
          fill={colour}
          onClick={() => open(s)}
          onPointerEnter={() => setHere(place)}
        >
          {/* In words only where somebody looks: for all of them that would take the most time. */}
          {place === here && <title>{`${spotWords(s)} (${show(s.low)} to ${show(s.high)})`}</title>}
        </path>
      ))}
    </g>
  );
});
