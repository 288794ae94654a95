import type { Comparison, LaneFindings } from "../api/client";
import { Glyph } from "./mark";

interface Props {
  comparison: Comparison;
  lanes: Pick<LaneFindings, "id" | "name">[];
}

/** Headings of a table with a column a lane: its mark and its name. */
export function LaneHeads({ comparison, lanes }: Props) {
  return lanes.map((lane) => (
    <th scope="col" key={lane.id}>
      <Glyph place={comparison.marks[lane.id] ?? 0} size={12} /> {lane.name}
    </th>
  ));
}
