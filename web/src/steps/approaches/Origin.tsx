/** Where a lane came from, and what was changed since. */
import type { Comparison, Lane } from "../../api/client";
import { Glyph } from "../../lanes/mark";
import { diffLines } from "../../ui/diff";
import { CodeDifference, type Language } from "../../ui/editors";
import { plural } from "../../ui/units";

type OriginProps = { lane: Lane; code: string; parent: Lane; comparison: Comparison };

export function Origin({ lane, code, parent, comparison }: OriginProps) {
  const { added, removed } = diffLines(parent.code, code);
  return (
    <>
      <h3>
        Branched from <Glyph place={comparison.marks[parent.id] ?? 0} size={13} /> {parent.name}
      </h3>
      <p className="small quiet">
        {added || removed
          ? `${plural(added, "line")} added, ${removed} taken out.`
          : "The text is the same; " +
            (parent.input === lane.input
              ? "change it to make a variant."
              : `it reads ${lane.input} instead of ${parent.input}.`)}
      </p>
      {(added > 0 || removed > 0) && (
        <CodeDifference
          before={parent.code}
          after={code}
          language={lane.language as Language}
          labels={[`Code of ${parent.name}`, `Code of ${lane.name}`]}
        />
      )}
    </>
  );
}
