/** Lines added and taken out between two texts. */
import { Chunk } from "@codemirror/merge";
import { Text } from "@codemirror/state";

export function diffLines(before: string, after: string): { added: number; removed: number } {
  const [a, b] = [before, after].map(ended) as [Text, Text];
  let added = 0;
  let removed = 0;
  for (const chunk of Chunk.build(a, b)) {
    removed += lines(a, chunk.fromA, chunk.endA);
    added += lines(b, chunk.fromB, chunk.endB);
  }
  return { added, removed };
}

/** A text whose last line has an end too: else one added behind it would change it. */
function ended(text: string): Text {
  return Text.of((text === "" || text.endsWith("\n") ? text : `${text}\n`).split("\n"));
}

function lines(text: Text, from: number, end: number): number {
  return end <= from ? 0 : text.lineAt(end).number - text.lineAt(from).number + 1;
}
