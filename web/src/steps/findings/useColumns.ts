/** The board's columns as chosen: from the address, else from what is kept with the comparison. */
import type { BoardColumn, Comparison, Findings } from "../../api/client";
import { changes, useChange } from "../../api/queries";
import { asAddress, chosenColumns } from "../../lanes/columns";
import type { View } from "../../ui/view";

export function useColumns(comparison: Comparison, findings: Findings, view: View) {
  const change = useChange(comparison.id);
  const columns = chosenColumns(findings, view.cols, comparison.board);
  const put = (next: BoardColumn[]) => {
    view.set({ cols: asAddress(next) });
    change.mutate(changes.board(next));
  };
  return {
    columns,
    put,
    usual: () => {
      view.set({ cols: null });
      change.mutate(changes.board([]));
    },
    widen: (key: string, width: number) =>
      put(columns.map((column) => (column.key === key ? { ...column, width } : column))),
  };
}
