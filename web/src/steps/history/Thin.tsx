/** Thinning old trials to summaries, told beforehand. */
import { useMutation } from "@tanstack/react-query";
import { Button, InputNumber } from "antd";
import { useState } from "react";
import { api, taken, type Problem, type Schemas } from "../../api/client";
import { Trouble } from "../../ui/Trouble";
import { bytes, plural } from "../../ui/units";
import { useRefresh } from "./Trials";

const USUAL_DAYS = 90;

export function Thin({ comparison }: { comparison: number }) {
  const [days, setDays] = useState(USUAL_DAYS);
  const refresh = useRefresh(comparison);
  const ask = useMutation<Schemas["Thinned"], Problem, boolean>({
    mutationFn: (only_tell) =>
      taken(
        api.POST("/api/comparisons/{comparison}/thin/", {
          params: { path: { comparison } },
          body: { older_than_days: days, only_tell },
        }),
      ),
    onSuccess: (_, told) => (told ? undefined : refresh()),
  });
  const found = ask.data;
  const [old, gone] = [found?.trials.length ?? 0, found?.gone.length ?? 0];
  const nothing = found && old + gone === 0;
  return (
    <div className="thin small quiet" data-testid="thin">
      Trials older than{" "}
      <InputNumber
        size="small"
        min={0}
        max={36_500}
        value={days}
        aria-label="Days"
        onChange={(value) => {
          setDays(value ?? USUAL_DAYS);
          ask.reset();
        }}
      />{" "}
      days that are not kept:{" "}
      {!found && (
        <Button size="small" loading={ask.isPending} onClick={() => ask.mutate(true)}>
          what would thinning give back?
        </Button>
      )}
      {nothing && "none with anything to give back."}
      {found && !nothing && ask.variables && (
        <>
          {old > 0 &&
            `of ${plural(old, "trial")} (${found.trials.join(", ")}) answers, curves, ` +
              "files and logs of single runs would go; figures, findings and report stay. "}
          {gone > 0 && `${plural(gone, "deleted trial")} would go for good. `}
          <Button size="small" danger loading={ask.isPending} onClick={() => ask.mutate(false)}>
            Thin, and give {bytes(found.size_bytes)} back
          </Button>
        </>
      )}
      {found && !nothing && !ask.variables && `${bytes(found.size_bytes)} were given back.`}
      <Trouble error={ask.error} />
    </div>
  );
}
