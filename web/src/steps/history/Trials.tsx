/** The trials of a history: what changed before each, names and notes, which are kept. */
import { DeleteOutlined, PushpinFilled, PushpinOutlined } from "@ant-design/icons";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, Tooltip } from "antd";
import { Link } from "react-router";
import { api, taken, type Comparison, type Problem, type Schemas } from "../../api/client";
import { Editable } from "../../ui/Editable";
import { Trouble } from "../../ui/Trouble";
import { ago, plural } from "../../ui/units";
import { useUndo } from "../../ui/useUndo";
import { useBeside } from "./Compared";
import type { History } from "./HistoryStep";

type Props = { comparison: Comparison; history: History };

export function useRefresh(comparison: number) {
  const cache = useQueryClient();
  return () =>
    Promise.all(
      [["history", comparison], ["trials", comparison], ["trial"], ["comparisons"]].map(
        (queryKey) => cache.invalidateQueries({ queryKey }),
      ),
    );
}

export function Trials({ comparison, history }: Props) {
  const newest = history.trials.toReversed();
  const hosts = new Set(history.trials.map((trial) => trial.host));
  return (
    <table className="plain past-trials" data-testid="past-trials">
      <thead>
        <tr>
          <th aria-label="side by side" />
          <th>trial</th>
          <th>when</th>
          <th>not as in the one before</th>
          <th>name and note</th>
          <th />
        </tr>
      </thead>
      <tbody>
        {newest.map((trial, i) => (
          <Line
            key={trial.trial}
            comparison={comparison}
            trial={trial}
            before={newest[i + 1]?.trial ?? null}
            host={hosts.size > 1}
          />
        ))}
      </tbody>
    </table>
  );
}

function Line(props: {
  comparison: Comparison;
  trial: Schemas["PastTrial"];
  before: number | null;
  host: boolean;
}) {
  const { comparison, trial, before, host } = props;
  const refresh = useRefresh(comparison.id);
  const undo = useUndo();
  const [beside, choose] = useBeside();
  const at = { params: { path: { id: trial.trial } } };
  const say = useMutation<unknown, Problem, Schemas["PatchedRemarksAskedRequest"]>({
    mutationFn: (body) => taken(api.PATCH("/api/trials/{id}/", { ...at, body })),
    onSuccess: refresh,
  });
  const restore = async () => {
    await taken(api.POST("/api/trials/{id}/restore/", at));
    await refresh();
  };
  const remove = useMutation<unknown, Problem>({
    mutationFn: () => taken(api.DELETE("/api/trials/{id}/", at)),
    onSuccess: async () => {
      await refresh();
      undo(`trial-${trial.trial}`, `Trial ${trial.trial} is deleted.`, () => void restore());
    },
  });
  const findings = `/comparisons/${comparison.id}/findings?trial=${trial.trial}`;
  const { name, note, kept } = trial.said;
  return (
    <tr data-testid={`trial-${trial.trial}`}>
      <td>
        <input
          type="checkbox"
          aria-label={`Trial ${trial.trial} side by side`}
          checked={beside.includes(trial.trial)}
          onChange={({ target }) =>
            choose(
              target.checked
                ? [...beside, trial.trial]
                : beside.filter((one) => one !== trial.trial),
            )
          }
        />
      </td>
      <td className="nowrap">
        <Link to={findings}>{trial.trial}</Link>
      </td>
      <td className="nowrap quiet small">
        {ago(trial.at)}
        <br />
        {plural(trial.rounds, "round")}
        {host && ` on ${trial.host || "another’s machine"}`}
      </td>
      <td className="small differs">
        {trial.differences.map((one) => one.words).join(", ") || (
          <span className="faint">{before === null ? "the first here" : "nothing known"}</span>
        )}{" "}
        {before !== null && (
          <Link className="nowrap" to={`${findings}&under=${before}&show=change`}>
            then and now
          </Link>
        )}
      </td>
      <td className="said">
        <Editable
          value={name}
          label={`Name of trial ${trial.trial}`}
          placeholder="name"
          onTake={(value) => say.mutate({ name: value })}
        />
        <Editable
          value={note}
          lines={1}
          label={`Note on trial ${trial.trial}`}
          placeholder="note"
          onTake={(value) => say.mutate({ note: value })}
        />
        <Trouble error={say.error ?? remove.error} />
      </td>
      <td className="nowrap">
        <Tooltip title={kept ? "Kept: never thinned" : "Keep it: never thinned"}>
          <Button
            size="small"
            type="text"
            aria-pressed={kept}
            aria-label={`Keep trial ${trial.trial}`}
            icon={kept ? <PushpinFilled /> : <PushpinOutlined />}
            onClick={() => say.mutate({ kept: !kept })}
          />
        </Tooltip>
        <Tooltip title="Delete (can be undone)">
          <Button
            size="small"
            type="text"
            aria-label={`Delete trial ${trial.trial}`}
            icon={<DeleteOutlined />}
            onClick={() => remove.mutate()}
          />
        </Tooltip>
      </td>
    </tr>
  );
}
