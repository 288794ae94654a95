/** What can be done with a lane as a whole: branched, moved, retired, removed. */
import { useNavigate } from "react-router";
import type { Comparison, Lane } from "../../api/client";
import { changes, type Change, type useChange } from "../../api/queries";
import { useUndo } from "../../ui/useUndo";

export function useLaneActions(
  comparison: Comparison,
  lane: Lane,
  change: ReturnType<typeof useChange>,
) {
  const navigate = useNavigate();
  const undo = useUndo();
  const open = (made: Comparison, fallback: string | undefined) => {
    const known = new Set(comparison.lanes.map((l) => l.id));
    const id = made.lanes.find((l) => !known.has(l.id))?.id ?? fallback ?? "";
    void navigate(`/comparisons/${comparison.id}/approaches?lane=${id}`);
  };
  const branch = () =>
    change.mutate(changes.addLane({ branch_from: lane.id }), {
      onSuccess: (made) => open(made, lane.id),
    });
  const copy = () =>
    change.mutate(changes.addLane({ copy_of: lane.id }), {
      onSuccess: (made) => open(made, lane.id),
    });
  /** Change the comparison with a way back for ten seconds. */
  const undoable = (done: Change, words: string, next?: (made: Comparison) => void) => {
    const before = comparison.text;
    change.mutate(done, {
      onSuccess: (made) => {
        next?.(made);
        undo(`lane-${lane.id}`, `“${lane.name}” ${words}`, () =>
          change.mutate(changes.text(before), { onSuccess: (back) => open(back, lane.id) }),
        );
      },
    });
  };
  const remove = () =>
    undoable(changes.removeLane(lane.id), "is removed.", (made) => open(made, made.lanes[0]?.id));
  const retire = () =>
    lane.retired
      ? undoable(changes.retire(lane.id, false), "runs again.")
      : undoable(
          changes.retire(lane.id, true),
          "is retired: old trials keep it, new ones do not run it.",
        );
  const move = (by: number) => {
    const ids = comparison.lanes.map((l) => l.id);
    const at = ids.indexOf(lane.id);
    ids.splice(at, 1);
    ids.splice(at + by, 0, lane.id);
    change.mutate(changes.order(ids));
  };
  return { branch, copy, remove, retire, move };
}
