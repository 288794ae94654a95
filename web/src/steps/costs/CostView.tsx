/** What each lane costs a month: what that rests on, where it can be changed, and how it grows. */
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Comparison, type Findings, type Schemas, taken } from "../../api/client";
import { changes, useChange } from "../../api/queries";
import { Glyph } from "../../lanes/mark";
import { Copy } from "../../ui/Copy";
import { Opening } from "../../ui/Opening";
import { Trouble } from "../../ui/Trouble";
import { bytes, figures } from "../../ui/units";
import { useWidth } from "../../ui/useWidth";
import { Assumptions } from "./Assumptions";
import { CostLines } from "./CostLines";
import { Prices } from "./Prices";
import "./costs.css";

export type Assumed = Schemas["Assumed"];
export type Costs = Schemas["CostFindings"];
export type Amount = Schemas["Amount"];
export type PriceTables = Schemas["Prices"];

export function usePrices() {
  return useQuery({
    queryKey: ["prices"],
    queryFn: () => taken(api.GET("/api/prices/")),
  });
}

type Props = { comparison: Comparison; trial: number; findings: Findings };

export default function CostView({ comparison, trial, findings }: Props) {
  const { data: prices, error: unread } = usePrices();
  const change = useChange(comparison.id);
  const [asked, setEditing] = useState<boolean | null>(null);
  const assumed = comparison.cost;
  const known = assumed !== null && prices?.machines[assumed.machine] !== undefined;
  const { data: costs, error } = useQuery({
    queryKey: ["cost", trial, findings.point, assumed, prices],
    enabled: known,
    retry: false,
    placeholderData: (before) => before,
    queryFn: () =>
      taken(
        api.POST("/api/trials/{trial}/cost/", {
          params: { path: { trial } },
          body: { assumed, point: findings.point },
        }),
      ),
  });
  if (!prices) return unread ? <Trouble error={unread} /> : <Opening what="the prices" />;
  const none = Object.keys(prices.machines).length === 0;
  // Open where there is none yet, and until what costs rest on was said.
  const editing = asked ?? (none || !assumed);
  return (
    <section className="costs" data-testid="costs">
      {!none && (
        <Assumptions
          key={JSON.stringify(assumed)}
          comparison={comparison}
          prices={prices}
          onTake={(said) => change.mutate(changes.cost(said))}
          more={
            <button className="text link" onClick={() => setEditing(!editing)}>
              {editing ? "Hide the prices" : "Prices…"}
            </button>
          }
        />
      )}
      {editing && <Prices prices={prices} />}
      <Trouble error={error} />
      {costs && known && <Told comparison={comparison} costs={costs} />}
    </section>
  );
}

function amountWords(amount: Amount): { value: string; span: string } {
  const bounds = amount.low !== null && amount.high !== null;
  return {
    value: figures(amount.value),
    span: bounds ? `${figures(amount.low ?? 0)} to ${figures(amount.high ?? 0)}` : "",
  };
}

function Told({ comparison, costs }: { comparison: Comparison; costs: Costs }) {
  const [ref, width] = useWidth<HTMLDivElement>(900);
  const words = costs.words.join(" ");
  const works = costs.lanes.some((lane) => lane.pays_back_days);
  return (
    <div ref={ref}>
      <div data-testid="cost-words">
        <p className="conclusion">
          {costs.words[0]} <Copy what="sentences on costs" text={words} />
        </p>
        {costs.words.length > 1 && <p className="quiet">{costs.words.slice(1).join(" ")}</p>}
      </div>
      <div className="scroll">
        <table className="plain" data-testid="cost-table">
          <thead>
            <tr>
              <th>lane</th>
              <th className="number">
                {costs.prices.currency ? `${costs.prices.currency} a month` : "a month"}
              </th>
              <th className="number">running</th>
              <th className="number">storage</th>
              <th className="number">stored</th>
              <th className="number">memory at most</th>
              <th>cheapest that holds it</th>
              {works && <th>pays back after</th>}
            </tr>
          </thead>
          <tbody>
            {costs.lanes.map((lane) => {
              const total = amountWords(lane.total);
              return (
                <tr key={lane.lane}>
                  <td className="nowrap">
                    <Glyph place={comparison.marks[lane.lane] ?? 0} size={13} /> {lane.name}
                  </td>
                  <td className="number">
                    <strong>{total.value}</strong> <span className="small faint">{total.span}</span>
                  </td>
                  <td className="number">{figures(lane.running.value)}</td>
                  <td className="number">{lane.storage === null ? "–" : figures(lane.storage)}</td>
                  <td className="number">{bytes(lane.stored_bytes)}</td>
                  <td className="number">{bytes(lane.peak_bytes)}</td>
                  <td>{lane.holds || <span className="faint">none of yours is known to</span>}</td>
                  {works && <td>{lane.pays_back_days && <Days days={lane.pays_back_days} />}</td>}
                </tr>
              );
            })}
          </tbody>
        </table>
      </div>
      {costs.along.map((along) => (
        <CostLines
          key={JSON.stringify([along.knob, along.at])}
          comparison={comparison}
          along={along}
          currency={costs.prices.currency}
          width={width}
        />
      ))}
    </div>
  );
}

function Days({ days }: { days: Amount }) {
  const low = days.low === null ? "" : `${figures(days.low)} to `;
  return (
    <>
      {figures(days.value)} days{" "}
      <span className="small faint">
        {days.high === null ? "it may be never" : `${low}${figures(days.high)}`}
      </span>
    </>
  );
}
