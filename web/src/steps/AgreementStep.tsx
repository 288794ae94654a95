/** Is it the same answer: the reference against each lane, and the evidence. */
import type { Agreement, LaneFindings } from "../api/client";
import type { StepProps } from "../frame/ComparisonPage";
import { useView } from "../frame/view";
import { Glyph } from "../lanes/mark";
import { count, figures } from "../ui/units";

const PARTS = ["rows", "columns", "types", "values", "every run"] as const;

function part(name: (typeof PARTS)[number], a: Agreement): { good: boolean; text: string } {
  switch (name) {
    case "rows":
      return a.rows === a.reference_rows
        ? { good: true, text: count(a.rows) }
        : { good: false, text: `${count(a.rows)}, not ${count(a.reference_rows)}` };
    case "columns": {
      const odd = a.missing_columns.length + a.extra_columns.length;
      return odd ? { good: false, text: `${odd} differ` } : { good: true, text: "same" };
    }
    case "types":
      return a.drifted.length
        ? { good: false, text: a.drifted.map((d) => d.column).join(", ") }
        : { good: true, text: "same" };
    case "values": {
      if (a.different_rows) return { good: false, text: `${count(a.different_rows)} rows differ` };
      if (a.missing_columns.length + a.extra_columns.length) return { good: false, text: "–" };
      return {
        good: true,
        text: a.largest_relative ? `within ${a.largest_relative.toExponential(0)}` : "same",
      };
    }
    case "every run":
      return a.unstable ? { good: false, text: "varies" } : { good: true, text: "yes" };
  }
}

export function AgreementStep({ comparison, findings }: StepProps) {
  const view = useView();
  const lanes = findings?.lanes.filter((lane) => lane.agreement) ?? [];
  if (!lanes.length) {
    return (
      <p className="quiet">
        Answers are compared when a trial has ended. Run one on the step Trial; a small number of
        rows is enough for this.
      </p>
    );
  }
  const chosen =
    lanes.find((lane) => lane.id === view.lane) ??
    lanes.find((lane) => lane.agreement?.verdict === "different") ??
    lanes.find((lane) => lane.agreement?.drifted.length) ??
    lanes.find((lane) => !lane.baseline);
  const reference = comparison.lanes.find((l) => l.id === lanes[0]?.agreement?.reference);
  return (
    <div className="agreement">
      <p className="quiet">
        Each lane’s answer against that of <strong>{reference?.name ?? "the baseline"}</strong>;
        numbers agree within a share of {comparison.answer.relative} or an amount of{" "}
        {comparison.answer.absolute}.
      </p>
      <table className="plain matrix">
        <thead>
          <tr>
            <th>lane</th>
            <th>verdict</th>
            {PARTS.map((name) => (
              <th key={name}>{name}</th>
            ))}
          </tr>
        </thead>
        <tbody>
          {lanes.map((lane) => (
            <Row
              key={lane.id}
              lane={lane}
              place={comparison.marks[lane.id] ?? 0}
              chosen={lane.id === chosen?.id}
              onOpen={() => view.set({ lane: lane.id })}
            />
          ))}
        </tbody>
      </table>
      {chosen?.agreement && <Evidence lane={chosen} agreement={chosen.agreement} />}
    </div>
  );
}

type RowProps = { lane: LaneFindings; place: number; chosen: boolean; onOpen: () => void };

function Row({ lane, place, chosen, onOpen }: RowProps) {
  const agreement = lane.agreement;
  if (!agreement) return null;
  return (
    <tr className={chosen ? "chosen" : ""} onClick={onOpen}>
      <td>
        <button className="text" onClick={onOpen}>
          <Glyph place={place} /> {lane.name}
        </button>
      </td>
      <td className={agreement.agrees ? "" : "bad"}>
        {lane.id === agreement.reference ? "reference" : agreement.verdict}
      </td>
      {PARTS.map((name) => {
        const { good, text } =
          agreement.verdict === "no answer" ? { good: false, text: "–" } : part(name, agreement);
        return (
          <td key={name} className={good ? "quiet" : "bad"}>
            {text}
          </td>
        );
      })}
    </tr>
  );
}

function Evidence({ lane, agreement }: { lane: LaneFindings; agreement: Agreement }) {
  const columns = Object.keys(
    agreement.examples[0]?.reference ?? agreement.examples[0]?.answer ?? {},
  );
  return (
    <section className="evidence">
      <h2>{lane.name}</h2>
      {agreement.reasons.length ? (
        <ul>
          {agreement.reasons.map((reason) => (
            <li key={reason}>{reason}</li>
          ))}
        </ul>
      ) : (
        <p className="quiet">
          {agreement.verdict === "same within tolerance"
            ? `The same answer: numbers differ by ${figures(agreement.largest_absolute)} at most, a share of ${agreement.largest_relative.toExponential(1)}.`
            : agreement.verdict === "same, other order"
              ? "The same rows in another order, which does not matter here."
              : "The same answer to the last digit."}
        </p>
      )}
      {agreement.examples.length > 0 && (
        <div className="scroll">
          <table className="plain mono">
            <thead>
              <tr>
                <th></th>
                {columns.map((name) => (
                  <th key={name}>{name}</th>
                ))}
              </tr>
            </thead>
            <tbody>
              {agreement.examples.map((example, i) => {
                const sides = example as Record<string, Record<string, unknown> | null>;
                return ["reference", "answer"].map((side) => (
                  <tr key={`${i}-${side}`} className={side === "reference" ? "first" : ""}>
                    <td className="faint">{side === "reference" ? "reference" : "this lane"}</td>
                    {sides[side] ? (
                      columns.map((name) => {
                        const other = sides[side === "reference" ? "answer" : "reference"];
                        const differs = other && other[name] !== sides[side]?.[name];
                        const value = sides[side]?.[name];
                        return (
                          <td key={name} className={differs ? "differs" : ""}>
                            {value === null ? <span className="faint">null</span> : String(value)}
                          </td>
                        );
                      })
                    ) : (
                      <td colSpan={columns.length} className="bad">
                        has no such row
                      </td>
                    )}
                  </tr>
                ));
              })}
            </tbody>
          </table>
        </div>
      )}
    </section>
  );
}
