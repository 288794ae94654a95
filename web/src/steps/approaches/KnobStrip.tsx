/** The knobs that code may name, with their values; the first is the one in use. */
import { Button } from "antd";
import { useState } from "react";
import type { Comparison } from "../../api/client";
import { changes, useChange } from "../../api/queries";
import { InlineField } from "../../ui/InlineField";

type Value = string | number | boolean;

function read(text: string): Value[] {
  return text
    .split(",")
    .map((word) => word.trim())
    .filter(Boolean)
    .map((word) => {
      const plain = word.replaceAll("_", "");
      if (plain !== "" && Number.isFinite(Number(plain))) return Number(plain);
      return word === "true" ? true : word === "false" ? false : word;
    });
}

export function KnobStrip({ comparison }: { comparison: Comparison }) {
  const change = useChange(comparison.id);
  const [adding, setAdding] = useState(false);
  const put = (knob: string, values: Value[] | null) =>
    change.mutate(changes.settings({ knobs: { [knob]: values } }));
  const add = (name: string) => {
    setAdding(false);
    if (/^[A-Za-z_]\w*$/.test(name) && !(name in comparison.knobs)) put(name, [1]);
  };
  return (
    <div className="knob-strip small" aria-label="Knobs">
      <span className="quiet">Knobs</span>
      {Object.entries(comparison.knobs).map(([knob, values]) => (
        <span key={knob} className="knob">
          <span className="mono">{knob}</span>
          <InlineField
            value={values.join(", ")}
            label={`Values of ${knob}, the first in use`}
            id={`knob-${knob}`}
            onTyping={() => {}}
            onTake={(text) => put(knob, read(text).length ? read(text) : null)}
          />
        </span>
      ))}
      {adding ? (
        <InlineField
          value=""
          label="Name of the new knob"
          id="new-knob"
          onTyping={(text) => text === null && setAdding(false)}
          onTake={add}
        />
      ) : (
        <Button size="small" type="link" data-testid="add-knob" onClick={() => setAdding(true)}>
          Add a knob
        </Button>
      )}
      <span className="faint">values with commas between; the first is used, sweeps take all</span>
    </div>
  );
}
