/** How far the leader is ahead under each change: a line a change, on one axis of times. */
import type { Comparison, Schemas } from "../../api/client";
import { Glyph } from "../../lanes/mark";
import { asPicture, download } from "../../ui/download";
import { figures } from "../../ui/units";

type Found = Schemas["ChallengeFindings"];
type Outcome = Found["outcomes"][number];

const WIDTH = 360;
const HEIGHT = 22;
const TICKS = [0.01, 0.1, 0.5, 1, 2, 10, 100, 1000];

const MARKS: Record<Outcome["verdict"], string> = {
  "turned over": "over",
  "leader wrong": "over",
  unsure: "unsure",
  held: "held",
  "not run": "",
};

function axisOf(found: Found) {
  const told = found.outcomes.flatMap((one) => [one.low, one.lead, one.high]);
  const values = [...told, found.usual, 1, 2, 0.8].filter((x): x is number => !!x && x > 0);
  const low = Math.log(Math.min(...values) / 1.15);
  const high = Math.log(Math.max(...values) * 1.15);
  return {
    place: (value: number) => ((Math.log(value) - low) / (high - low)) * WIDTH,
    ticks: TICKS.filter((x) => Math.log(x) > low && Math.log(x) < high),
  };
}

export function Leads({ comparison, found }: { comparison: Comparison; found: Found }) {
  const { place, ticks } = axisOf(found);
  const shown = found.outcomes.filter((one) => one.verdict !== "not run");
  if (!shown.length) return null;
  return (
    <div className="scroll leads">
      <table className="plain" data-testid="leads">
        <thead>
          <tr>
            <th>changed</th>
            <th></th>
            <th>
              how many times {found.leader_name} is ahead of the next{" "}
              <button
                className="text link small"
                onClick={() => {
                  const drawing = document.querySelector<HTMLElement>(".leads table");
                  if (drawing) download("challenge.svg", "image/svg+xml", asPicture(drawing));
                }}
              >
                SVG
              </button>
              <svg className="bar" width={WIDTH} height={16} aria-hidden="true">
                {ticks.map((x) => (
                  <text key={x} x={place(x)} y={12} textAnchor="middle" className="tick">
                    {x}
                  </text>
                ))}
              </svg>
            </th>
            <th>quickest there</th>
            <th>wrong there</th>
          </tr>
        </thead>
        <tbody>
          {shown.map((one) => (
            <tr key={one.words}>
              <td>{one.words}</td>
              <td className={`nowrap verdict ${MARKS[one.verdict]}`}>{one.verdict}</td>
              <td>
                <Bar one={one} usual={found.usual} place={place} />
              </td>
              <td className="nowrap">
                {one.leader && (
                  <>
                    <Glyph place={comparison.marks[one.leader] ?? 0} size={12} />{" "}
                    {one.lanes.find((lane) => lane.lane === one.leader)?.name}
                  </>
                )}
              </td>
              <td>
                {one.lanes
                  .filter((lane) => lane.wrong)
                  .map((lane) => (
                    <span key={lane.lane} className="caution" title={lane.wrong}>
                      {lane.name}{" "}
                    </span>
                  ))}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

type BarProps = { one: Outcome; usual: number | null; place: (value: number) => number };

function Bar({ one, usual, place }: BarProps) {
  const middle = HEIGHT / 2;
  const span = one.low && one.high ? `, ${figures(one.low)} to ${figures(one.high)}` : "";
  const label = one.lead
    ? `${figures(one.lead)} times${span}`
    : "no time of the leader or of another lane";
  return (
    <svg className="bar" width={WIDTH} height={HEIGHT} role="img" aria-label={label}>
      <title>{label}</title>
      <line x1={place(1)} x2={place(1)} y1={0} y2={HEIGHT} className="one" />
      {usual && <line x1={place(usual)} x2={place(usual)} y1={0} y2={HEIGHT} className="usual" />}
      {one.lead && (
        <>
          <line
            x1={place(usual ?? 1)}
            x2={place(one.lead)}
            y1={middle}
            y2={middle}
            className={`way ${MARKS[one.verdict]}`}
          />
          {one.low && one.high && (
            <line
              x1={place(one.low)}
              x2={place(one.high)}
              y1={middle}
              y2={middle}
              className={`span ${MARKS[one.verdict]}`}
            />
          )}
          <circle cx={place(one.lead)} cy={middle} r={4} className={MARKS[one.verdict]} />
        </>
      )}
    </svg>
  );
}
