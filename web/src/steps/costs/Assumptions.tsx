/** How often it runs and on what, in a sentence whose parts are changed where they stand. */
import { Button } from "antd";
import { useState } from "react";
import type { Comparison } from "../../api/client";
import { InlineField } from "../../ui/InlineField";
import { Choice } from "../sweep/Choice";
import type { Assumed, PriceTables } from "./CostView";

type Props = {
  comparison: Comparison;
  prices: PriceTables;
  onTake: (assumed: Assumed) => void;
  more: React.ReactNode;
};

/** What is typed as a number above nought; null for what is none. */
function numberOf(typed: string): number | null {
  const value = Number(typed.replace(",", "."));
  return typed.trim() && Number.isFinite(value) && value > 0 ? value : null;
}

export function Assumptions({ comparison, prices, onTake, more }: Props) {
  const machines = Object.keys(prices.machines);
  // Nothing is said before somebody says it: once a day on the first machine is what is offered.
  const said: Assumed = comparison.cost ?? {
    per_day: 1,
    machine: machines[0] ?? "",
    storage: null,
    work: {},
    per_work_hour: null,
  };
  const take = (changed: Partial<Assumed>) => onTake({ ...said, ...changed });
  const others = comparison.lanes.filter((lane) => lane.id !== comparison.baseline);
  const billed = prices.machines[said.machine]?.per_hour === null ? "CPU time" : "machine time";
  return (
    <div className="assumptions" data-testid="assumptions">
      <p className="sentence">
        It runs{" "}
        <NumberField
          label="Times a day"
          value={said.per_day}
          onTake={(per_day) => per_day && take({ per_day })}
        />{" "}
        times a day on{" "}
        <Choice
          label="Machine"
          value={said.machine}
          options={[...new Set([...machines, said.machine])].map((value) => ({
            value,
            label: prices.machines[value] ? value : `${value} (no price)`,
          }))}
          onChange={(machine) => take({ machine })}
        />{" "}
        <span className="faint small">{billed} is paid for</span>, its data kept on{" "}
        <Choice
          label="Storage"
          value={said.storage ?? ""}
          options={[
            { value: "", label: "nothing that costs" },
            ...Object.keys(prices.storages).map((value) => ({ value, label: value })),
          ]}
          onChange={(storage) => take({ storage: storage || null })}
        />
        . An hour of work costs{" "}
        <NumberField
          label="Cost of an hour of work"
          value={said.per_work_hour}
          onTake={(per_work_hour) => take({ per_work_hour })}
        />{" "}
        {prices.currency}.{" "}
        {!comparison.cost && (
          <Button size="small" type="primary" onClick={() => take({})}>
            Work it out
          </Button>
        )}{" "}
        {more}
      </p>
      {said.per_work_hour !== null && (
        <p className="quiet">
          Hours of work more than on the baseline:{" "}
          {others.map((lane, i) => (
            <span key={lane.id} className="nowrap">
              {i > 0 && ", "}
              {lane.name || lane.id}{" "}
              <NumberField
                label={`Hours of work on ${lane.name || lane.id}`}
                value={said.work[lane.id] ?? null}
                onTake={(hours) => {
                  const rest = Object.entries(said.work).filter(([id]) => id !== lane.id);
                  const work = hours === null ? rest : [...rest, [lane.id, hours] as const];
                  take({ work: Object.fromEntries(work) });
                }}
              />
            </span>
          ))}
        </p>
      )}
    </div>
  );
}

function NumberField(props: {
  label: string;
  value: number | null;
  onTake: (value: number | null) => void;
}) {
  const { label, value, onTake } = props;
  const [typed, setTyped] = useState<string | null>(null);
  const isWrong = (text: string) => text.trim() !== "" && numberOf(text) === null;
  const wrong = typed !== null && isWrong(typed);
  const known = value === null ? "" : String(value);
  return (
    <InlineField
      numeric
      // What is wrong stays where it was typed.
      value={wrong ? typed : known}
      label={label}
      wrong={wrong ? "a number above nought" : ""}
      onTyping={setTyped}
      onTake={(text) => {
        setTyped(isWrong(text) ? text : null);
        if (!isWrong(text)) onTake(numberOf(text));
      }}
    />
  );
}
