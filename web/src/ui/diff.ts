/** Lines added and taken out between two texts. */
import { Chunk } from "@codemirror/merge";
import { Text } from "@codemirror/state";

export function diffLines(before: string, after: string): { added: number; removed: number } {
  const a = Text.of(before.split("\n"));
  const b = Text.of(after.split("\n"));
  let added = 0;
  let removed = 0;
  for (const chunk of Chunk.build(a, b)) {
    removed += lines(a, chunk.fromA, chunk.endA);
    added += lines(b, chunk.fromB, chunk.endB);
  }
  return { added, removed };
}

function lines(text: Text, from: number, end: number): number {
  return end <= from ? 0 : text.lineAt(end).number - text.lineAt(from).number + 1;
}
