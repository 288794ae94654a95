/** What stands behind a verdict: column by column, distances, and rows side by side. */
import { useQueryClient } from "@tanstack/react-query";
import { App, Button } from "antd";
import { useState } from "react";
import {
  api,
  taken,
  type Agreement,
  type Comparison,
  type LaneFindings,
  type Point,
  type Trial,
} from "../api/client";
import { EXPECTED } from "../api/facts";
import { CodeDifference, type Language } from "../ui/editors";
import { Glyph } from "../lanes/mark";
import { DistanceAxis, Distances } from "../plot/distances";
import { count, figures, plural } from "../ui/units";

const WIDTH = 232;

type Props = {
  comparison: Comparison;
  trial: Trial | undefined;
  lane: LaneFindings;
  agreement: Agreement;
  point: Point;
};

export function Evidence({ comparison, trial, lane, agreement, point }: Props) {
  const [codes, setCodes] = useState(false);
  const cache = useQueryClient();
  const { message } = App.useApp();
  const reference = agreement.reference ?? "";
  const other = comparison.lanes.find((l) => l.id === reference);
  const spoken = comparison.lanes.find((l) => l.id === lane.id)?.language;
  const isReference = lane.id === reference;
  const expect = async () => {
    if (!trial) return;
    try {
      const changed = await taken(
        api.POST("/api/trials/{id}/expect/", {
          params: { path: { id: trial.id } },
          body: { lane: lane.id, point },
        }),
      );
      cache.setQueryData(["comparison", comparison.id], changed);
      void message.success("Kept: later trials are compared with this answer.");
    } catch (problem) {
      void message.error((problem as Error).message, 6);
    }
  };
  return (
    <section className="evidence">
      <div className="row evidence-head">
        <h2>
          <Glyph place={comparison.marks[lane.id] ?? 0} /> {lane.name}
        </h2>
        <span className="grow" />
        {!isReference && reference !== EXPECTED && trial && (
          <Button size="small" data-testid="both-codes" onClick={() => setCodes(!codes)}>
            {codes ? "Hide the code" : "Code of both"}
          </Button>
        )}
        {agreement.verdict !== "no answer" && (
          <Button size="small" data-testid="expect" onClick={() => void expect()}>
            Expect this answer
          </Button>
        )}
      </div>
      {codes && trial && (
        <div className="editor-box both-codes">
          <div className="row small quiet">
            <span className="half">{other?.name ?? reference}</span>
            <span className="half">{lane.name}</span>
          </div>
          <CodeDifference
            before={trial.lanes[reference] ?? ""}
            after={trial.lanes[lane.id] ?? ""}
            language={(spoken ?? "sql") as Language}
            labels={["Code of the reference", `Code of ${lane.name}`]}
          />
        </div>
      )}
      {agreement.reasons.length ? (
        <ul className="reasons">
          {agreement.reasons.map((reason) => (
            <li key={reason}>{reason}</li>
          ))}
        </ul>
      ) : (
        <p className="quiet">{allWell(agreement, isReference)}</p>
      )}
      {agreement.broken_lines && <p data-testid="broken-lines">{agreement.broken_lines}.</p>}
      {(agreement.traced ?? []).length > 0 && (
        <ul className="reasons quiet" data-testid="traced">
          {agreement.traced?.map((one) => (
            <li key={one.words}>{one.words}</li>
          ))}
        </ul>
      )}
      <Columns agreement={agreement} relative={comparison.answer.relative} />
      {agreement.examples.length > 0 && <Examples comparison={comparison} agreement={agreement} />}
    </section>
  );
}

/** An amount, as a power of ten where it is very small. */
function amount(value: number): string {
  return value !== 0 && Math.abs(value) < 1e-3 ? value.toExponential(1) : figures(value);
}

function allWell(agreement: Agreement, isReference: boolean): string {
  if (isReference) return "The others are compared with this answer.";
  if (agreement.verdict === "same within tolerance") {
    const units = agreement.largest_units ?? 0;
    return (
      `The same answer: numbers differ by ${amount(agreement.largest_absolute)} at most, a share ` +
      `of ${agreement.largest_relative.toExponential(1)}, ` +
      `${plural(Math.round(units), "unit")} in the last place.`
    );
  }
  return agreement.verdict === "same, other order"
    ? "The same rows in another order, which does not matter here."
    : "The same answer to the last digit.";
}

function Columns({ agreement, relative }: { agreement: Agreement; relative: number }) {
  const drifts = new Map(agreement.drifted.map((drift) => [drift.column, drift]));
  const evidence = agreement.evidence ?? [];
  if (!evidence.length && !drifts.size) return null;
  const names = evidence.length ? evidence.map((e) => e.name) : [...drifts.keys()];
  const plotted = evidence.some((column) => column.distances);
  return (
    <table className="plain by-column" data-testid="by-column">
      <thead>
        <tr>
          <th>column</th>
          <th>type</th>
          {evidence.length > 0 && (
            <>
              <th className="number">equal</th>
              <th className="number">within</th>
              <th className="number">differ</th>
            </>
          )}
          {plotted && (
            <th>
              <span className="plot-word">how far apart, as a share</span>
              <DistanceAxis width={WIDTH} relative={relative} />
            </th>
          )}
        </tr>
      </thead>
      <tbody>
        {names.map((name) => {
          const column = evidence.find((e) => e.name === name);
          const drift = drifts.get(name);
          return (
            <tr key={name}>
              <td>
                <span className="mono">{name}</span>
                {column?.remarks.map((remark) => (
                  <div key={remark} className="small quiet">
                    {remark}
                  </div>
                ))}
              </td>
              <td className={drift ? "caution" : "faint"}>
                {drift
                  ? drift.reference === drift.answer
                    ? drift.answer
                    : `${drift.reference} → ${drift.answer}`
                  : "as it was"}
                {drift?.lost && <div className="small">{drift.lost} lost</div>}
              </td>
              {column && (
                <>
                  <td className="number quiet">{count(column.equal)}</td>
                  <td className="number quiet">{column.within ? count(column.within) : ""}</td>
                  <td className={`number ${column.different ? "bad" : "faint"}`}>
                    {column.different ? count(column.different) : "0"}
                  </td>
                </>
              )}
              {plotted && (
                <td>
                  {column?.distances &&
                    Object.keys({ ...column.distances.within, ...column.distances.beyond }).length >
                      0 && (
                      <Distances distances={column.distances} width={WIDTH} relative={relative} />
                    )}
                </td>
              )}
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}

function Examples({ comparison, agreement }: { comparison: Comparison; agreement: Agreement }) {
  const { relative, absolute } = comparison.answer;
  const first = agreement.examples[0];
  const told = agreement.evidence?.map((column) => column.name) ?? [];
  const columns = told.length ? told : Object.keys(first?.reference ?? first?.answer ?? {});
  /** Whether two values are further apart than the tolerance. */
  const differ = (a: unknown, b: unknown) => {
    if (a === b) return false;
    const [x, y] = [Number(a), Number(b)];
    const known = a !== null && b !== null && Number.isFinite(x) && Number.isFinite(y);
    return !known || Math.abs(x - y) > absolute + relative * Math.abs(x);
  };
  return (
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
            return (["reference", "answer"] as const).map((side) => (
              <tr key={`${i}-${side}`} className={side === "reference" ? "first" : ""}>
                <td className="faint">{side === "reference" ? "reference" : "this lane"}</td>
                {example[side] ? (
                  columns.map((name) => {
                    const across = example[side === "reference" ? "answer" : "reference"];
                    const value = example[side]?.[name];
                    const marked =
                      across && differ(example.reference?.[name], example.answer?.[name]);
                    return (
                      <td key={name} className={marked ? "differs" : ""}>
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
  );
}
