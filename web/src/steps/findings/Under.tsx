/** Another trial laid under the one in view: which one, and what changed since. */
import { Select } from "antd";
import { useOverlay, useTrials } from "../../api/queries";
import { underWay } from "../../ui/job";
import type { View } from "../../ui/view";
import { trialWords } from "../props";

export function Under(props: { comparison: number; trial: number; view: View }) {
  const { comparison, trial, view } = props;
  const trials = useTrials(comparison).data ?? [];
  const others = trials.filter((one) => one.id !== trial && !underWay(one.state) && one.done_runs);
  if (!others.length) return null;
  // Somebody else's trial that this one repeats: what held of it is a click away.
  const came = others.find((one) => one.origin && one.id < trial);
  return (
    <>
      {came && view.under === null && (
        <button
          className="text link small"
          onClick={() => view.set({ under: came.id, show: "change" })}
        >
          what held of the other’s
        </button>
      )}
      <Select
        size="small"
        variant="underlined"
        allowClear
        className="under"
        value={view.under}
        placeholder="over no other trial"
        aria-label="Trial beneath"
        popupMatchSelectWidth={false}
        options={others.map((one) => ({ value: one.id, label: `over ${trialWords(one)}` }))}
        onChange={(id: number | undefined) => view.set({ under: id ?? null })}
      />
    </>
  );
}

export function OverlayWords(props: { trial: number; under: number; point: string }) {
  const { data, error } = useOverlay(props.trial, props.under, props.point);
  if (error) return <p className="small quiet">{error.message}</p>;
  if (!data) return null;
  return (
    <p className="overlay-words" data-testid="overlay-words">
      <strong>Over trial {props.under}:</strong> {data.words}
    </p>
  );
}
