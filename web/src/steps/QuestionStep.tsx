/** The question: the task in words, the shape of the answer, what is good enough. */
import { Select, Switch } from "antd";
import type { StepProps } from "./props";
import { changes, useChange } from "../api/queries";
import { glyphPath, laneColour } from "../lanes/mark";
import { BANDS, Bands, TimeTicks, timeScale } from "../plot/time";
import { Editable } from "../ui/Editable";
import { useWidth } from "../ui/useWidth";
import { bytes, readBytes, readSeconds, seconds, trimmed } from "../ui/units";

export function QuestionStep({ comparison, findings }: StepProps) {
  const change = useChange(comparison.id);
  const { answer, targets } = comparison;
  const setAnswer = (part: Partial<typeof answer>) =>
    change.mutate(changes.settings({ answer: part }));
  const tolerance = (text: string) =>
    Number(text) >= 0 && Number(text) < 1 ? "" : "Give a number of 0 or more, less than 1.";
  return (
    <div className="question">
      <section>
        <label className="field">
          <span>Name</span>
          <Editable
            label="Name"
            value={comparison.name}
            wrong={(text) => (text.trim() ? "" : "A comparison needs a name.")}
            onTake={(name) => change.mutate(changes.settings({ name }))}
          />
        </label>
        <label className="field">
          <span>The task in words</span>
          <Editable
            label="The task in words"
            className="task"
            lines={3}
            value={comparison.question}
            placeholder="What is asked of the data, so that two people would build the same answer?"
            onTake={(question) => change.mutate(changes.settings({ question }))}
          />
        </label>
        <div className="field">
          <span>Columns that identify a row of the answer</span>
          <Select
            mode="tags"
            value={answer.key}
            open={false}
            suffixIcon={null}
            aria-label="Key columns"
            placeholder="None: whole rows are compared"
            onChange={(key: string[]) => setAnswer({ key })}
          />
        </div>
        <div className="trio">
          <label className="field">
            <span>Numbers may differ by a share of</span>
            <Editable
              label="Relative tolerance"
              value={String(answer.relative)}
              wrong={tolerance}
              onTake={(text) => setAnswer({ relative: Number(text) })}
            />
          </label>
          <label className="field">
            <span>and by an amount of</span>
            <Editable
              label="Absolute tolerance"
              value={String(answer.absolute)}
              wrong={(text) => (Number(text) >= 0 ? "" : "Give a number of 0 or more.")}
              onTake={(text) => setAnswer({ absolute: Number(text) })}
            />
          </label>
        </div>
        <div className="trio two">
          <div className="field">
            <span>Order of rows matters</span>
            <Switch
              checked={answer.order}
              aria-label="Order of rows matters"
              onChange={(order) => setAnswer({ order })}
            />
          </div>
          <div className="field">
            <span>Types must be the same</span>
            <Switch
              checked={answer.exact_types}
              aria-label="Types must be the same"
              onChange={(exact_types) => setAnswer({ exact_types })}
            />
          </div>
        </div>
        <div className="field">
          <span>Baseline: the lane that the others are compared with</span>
          <Select
            value={comparison.baseline}
            aria-label="Baseline"
            options={comparison.lanes.map((lane) => ({ value: lane.id, label: lane.name }))}
            onChange={(baseline: string) => change.mutate(changes.settings({ baseline }))}
          />
        </div>
      </section>
      <section>
        <h2>Good enough</h2>
        <p className="quiet">
          A target is drawn wherever times are drawn, so that the work can end when it is reached.
          What differs by less than matters is told as no difference that matters.
        </p>
        <div className="trio">
          <label className="field">
            <span>Elapsed time at most</span>
            <Editable
              label="Target for elapsed time"
              value={targets.elapsed ? trimmed(seconds(targets.elapsed)) : ""}
              placeholder="no target"
              wrong={(text) =>
                !text.trim() || readSeconds(text) ? "" : "Write it as 250 ms, 2 s or 5 min."
              }
              onTake={(text) =>
                change.mutate(changes.settings({ targets: { elapsed: text.trim() || null } }))
              }
            />
          </label>
          <label className="field">
            <span>Peak memory at most</span>
            <Editable
              label="Target for peak memory"
              value={targets.memory ? trimmed(bytes(targets.memory)) : ""}
              placeholder="no target"
              wrong={(text) =>
                !text.trim() || readBytes(text) ? "" : "Write it as 500 MB or 1 GiB."
              }
              onTake={(text) =>
                change.mutate(changes.settings({ targets: { memory: text.trim() || null } }))
              }
            />
          </label>
          <label className="field">
            <span>A difference matters from, in %</span>
            <Editable
              label="Difference that matters, in percent"
              value={String(Number((100 * comparison.matters).toPrecision(3)))}
              wrong={(text) =>
                Number(text) > 0 && Number(text) < 100 ? "" : "Give a number above 0 and below 100."
              }
              onTake={(text) => change.mutate(changes.settings({ matters: Number(text) / 100 }))}
            />
          </label>
        </div>
        <Picture comparison={comparison} findings={findings} />
      </section>
    </div>
  );
}

const HEIGHT = 190;

function Picture({ comparison, findings }: StepProps) {
  const [ref, width] = useWidth<HTMLDivElement>(440);
  const lanes = findings?.lanes.filter((lane) => lane.elapsed) ?? [];
  const medians = lanes.map((lane) => lane.elapsed?.median ?? 1);
  const target = comparison.targets.elapsed;
  const scale = timeScale([0.02, 40, ...medians, ...(target ? [target] : [])], width);
  const floor = HEIGHT - 26;
  return (
    <div ref={ref} className="picture">
      <svg width={width} height={HEIGHT} role="img" aria-label="Patience, target and lanes">
        <Bands scale={scale} height={floor} />
        {BANDS.map((band, i) => {
          const from = Math.max(scale.domain()[0] ?? 0, BANDS[i - 1]?.until ?? 0);
          const until = Math.min(scale.domain()[1] ?? 1, band.until);
          return (
            <text key={band.word} className="band-word" x={(scale(from) + scale(until)) / 2} y={17}>
              {band.word}
            </text>
          );
        })}
        {target && (
          <g>
            <line
              x1={scale(target)}
              x2={scale(target)}
              y1={26}
              y2={floor}
              stroke="var(--target)"
              strokeWidth={2}
            />
            <text className="target-word" x={scale(target) + 5} y={38}>
              target {trimmed(seconds(target))}
            </text>
          </g>
        )}
        {lanes.map((lane, i) => {
          const place = comparison.marks[lane.id] ?? 0;
          const y = 56 + (i * (floor - 66)) / Math.max(1, lanes.length - 1 || 1);
          return (
            <g
              key={lane.id}
              transform={`translate(${scale(lane.elapsed?.median ?? 1)},${lanes.length > 1 ? y : 90})`}
            >
              <path d={glyphPath(place, 80)} fill={laneColour(place)} />
              <title>{`${lane.name}: ${seconds(lane.elapsed?.median)}`}</title>
            </g>
          );
        })}
        <TimeTicks scale={scale} y={floor} />
      </svg>
      <p className="small faint">
        {lanes.length
          ? "Glyphs: where each lane’s median lies in the trial in view."
          : "After a trial each lane’s median stands here."}
      </p>
    </div>
  );
}
