/** History: what each lane took in each trial, and since when it takes another time. */
import { Select } from "antd";
import type { Schemas } from "../../api/client";
import { useHistory } from "../../api/queries";
import { Opening } from "../../ui/Opening";
import { pointWords } from "../../ui/units";
import { useOff, useView } from "../../ui/view";
import type { StepProps } from "../props";
import { Compared } from "./Compared";
import { OverTime } from "./OverTime";
import { Thin } from "./Thin";
import { Trials } from "./Trials";

export type History = Schemas["History"];

export default function HistoryStep({ comparison }: StepProps) {
  const view = useView();
  const [off] = useOff(comparison.id);
  const { point, measure, anchor } = view;
  const { data, error } = useHistory(comparison.id, { point, measure, anchor });
  if (error) {
    return (
      <p className="quiet" data-testid="no-history">
        {error.message} Each trial that ends stands here beside the others.
      </p>
    );
  }
  if (!data) return <Opening what="the history" />;
  const lanes = data.lanes.filter((lane) => !off.has(lane.lane));
  const name = (id: string) => data.lanes.find((lane) => lane.lane === id)?.name ?? id;
  return (
    <div className="history">
      <p className="sentence">
        <Chosen
          label="Measure"
          value={data.measure}
          options={Object.entries(data.measures).map(([value, label]) => ({ value, label }))}
          onChange={(value) => view.set({ measure: value === "elapsed" ? null : value })}
        />{" "}
        {data.points.length > 1 && (
          <>
            at{" "}
            <Chosen
              label="Point"
              value={JSON.stringify(data.point)}
              options={data.points.map((one) => ({
                value: JSON.stringify(one),
                label: pointWords(one),
              }))}
              onChange={(value) => view.set({ point: value })}
            />{" "}
          </>
        )}
        {data.anchor && (
          <>
            held against{" "}
            <Chosen
              label="Anchor"
              value={data.anchor}
              options={data.lanes.map((lane) => ({ value: lane.lane, label: lane.name }))}
              onChange={(value) => view.set({ anchor: value })}
            />
          </>
        )}
      </p>
      <p className="conclusion" data-testid="history-words">
        {data.words}
      </p>
      <OverTime comparison={comparison} history={data} lanes={lanes} />
      {data.anchor && (
        <p className="small faint">
          Each lane as a part of what {name(data.anchor)} took in the same rounds: a machine that is
          slower on a day makes no lane slower.
        </p>
      )}
      <Compared comparison={comparison} />
      <Trials comparison={comparison} history={data} />
      <Thin comparison={comparison.id} />
    </div>
  );
}

function Chosen(props: {
  label: string;
  value: string;
  options: { value: string; label: string }[];
  onChange: (value: string) => void;
}) {
  return (
    <Select
      size="small"
      variant="underlined"
      showSearch
      optionFilterProp="label"
      popupMatchSelectWidth={false}
      aria-label={props.label}
      value={props.value}
      options={props.options}
      onChange={props.onChange}
    />
  );
}
