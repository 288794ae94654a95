/** Where approaches are written. */
import { useView } from "../../ui/view";
import type { StepProps } from "../props";
import { LaneEditor } from "./LaneEditor";

export default function ApproachesStep({ comparison, trial }: StepProps) {
  const view = useView();
  const lane = comparison.lanes.find((l) => l.id === view.lane) ?? comparison.lanes[0];
  if (!lane) {
    return (
      <p className="quiet">
        No approach yet. Use “Add a lane” on the left: it starts with a few lines that already run
        on this comparison’s tables.
      </p>
    );
  }
  return (
    <LaneEditor key={lane.id} comparison={comparison} lane={lane} ran={trial?.lanes[lane.id]} />
  );
}
