/** Is it the same answer: the reference against each lane, groups, and the evidence. */
import { useQueryClient } from "@tanstack/react-query";
import { App, Select } from "antd";
import { useEffect, useState } from "react";
import { api, taken, type Agreement, type LaneFindings } from "../api/client";
import { EXPECTED } from "../api/facts";
import type { StepProps } from "./props";
import { useView } from "../ui/view";
import { Glyph } from "../lanes/mark";
import { count, plural } from "../ui/units";
import { Evidence } from "./Evidence";

const PARTS = ["rows", "columns", "types", "values", "order", "every run"] as const;
const ASK_MS = 600;
const PATIENCE_MS = 120_000;

function part(name: (typeof PARTS)[number], a: Agreement): { good: boolean; text: string } {
  switch (name) {
    case "rows":
      return a.rows === a.reference_rows
        ? { good: true, text: count(a.rows) }
        : { good: false, text: `${count(a.rows)}, not ${count(a.reference_rows)}` };
    case "columns": {
      const odd = a.missing_columns.length + a.extra_columns.length;
      if (odd) return { good: false, text: `${odd} differ` };
      return { good: true, text: Object.keys(a.renamed ?? {}).length ? "other case" : "same" };
    }
    case "types":
      return a.drifted.length
        ? { good: false, text: a.drifted.map((d) => d.column).join(", ") }
        : { good: true, text: "same" };
    case "values": {
      if (a.different_rows)
        return {
          good: false,
          text: `${plural(a.different_rows, "row")} ${a.different_rows === 1 ? "differs" : "differ"}`,
        };
      if (a.missing_columns.length + a.extra_columns.length) return { good: false, text: "–" };
      return {
        good: true,
        text: a.largest_relative ? `within ${a.largest_relative.toExponential(0)}` : "same",
      };
    }
    case "order":
      return { good: true, text: a.verdict === "same, other order" ? "other" : "" };
    case "every run":
      return a.unstable
        ? {
            good: false,
            text: a.right_share === null ? "no" : `${count(100 * a.right_share)} % right`,
          }
        : { good: true, text: "yes" };
  }
}

export function AgreementStep({ comparison, trial, findings }: StepProps) {
  const view = useView();
  const lanes = findings?.lanes.filter((lane) => lane.agreement) ?? [];
  const first = lanes[0]?.agreement;
  if (!first) {
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
  return (
    <div className="agreement">
      <div className="row quiet against">
        <span>Each lane’s answer against that of</span>
        <Against trial={trial?.id} reference={first.reference} lanes={lanes} />
        <span>
          numbers agree within a share of {comparison.answer.relative} or an amount of{" "}
          {comparison.answer.absolute}
          {comparison.answer.key.length > 0 &&
            `; rows belong together by ${comparison.answer.key.join(", ")}`}
          .
        </span>
      </div>
      <Camps lanes={lanes} marks={comparison.marks} onOpen={(lane) => view.set({ lane })} />
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
      {chosen?.agreement && (
        <Evidence
          key={chosen.id}
          comparison={comparison}
          trial={trial}
          lane={chosen}
          agreement={chosen.agreement}
          point={findings?.point ?? {}}
        />
      )}
    </div>
  );
}

type AgainstProps = {
  trial: number | undefined;
  reference: string | null | undefined;
  lanes: LaneFindings[];
};

/** Which answer is the reference; another choice is judged anew from the kept answers. */
function Against({ trial, reference, lanes }: AgainstProps) {
  const cache = useQueryClient();
  const { message } = App.useApp();
  const [asked, setAsked] = useState<string | null>(null);
  const waiting = asked !== null && asked !== reference;
  useEffect(() => {
    if (!waiting) return;
    const timer = window.setInterval(
      () => void cache.invalidateQueries({ queryKey: ["findings", trial] }),
      ASK_MS,
    );
    const late = window.setTimeout(() => {
      setAsked(null);
      void message.error("The answers were not judged anew within two minutes; try again.", 6);
    }, PATIENCE_MS);
    return () => {
      window.clearInterval(timer);
      window.clearTimeout(late);
    };
  }, [waiting, cache, trial, message]);
  const judge = (lane: string) => {
    if (trial === undefined || lane === EXPECTED) return;
    setAsked(lane);
    taken(
      api.POST("/api/trials/{id}/judge/", { params: { path: { id: trial } }, body: { lane } }),
    ).catch((problem: Error) => {
      setAsked(null);
      void message.error(problem.message, 6);
    });
  };
  return (
    <Select
      size="small"
      value={asked ?? reference ?? ""}
      loading={waiting}
      aria-label="Reference"
      data-testid="reference"
      popupMatchSelectWidth={false}
      options={[
        ...(reference === EXPECTED ? [{ value: EXPECTED, label: EXPECTED }] : []),
        ...lanes
          .filter((lane) => lane.agreement?.verdict !== "no answer")
          .map((lane) => ({ value: lane.id, label: lane.name })),
      ]}
      onChange={judge}
    />
  );
}

type CampsProps = {
  lanes: LaneFindings[];
  marks: Record<string, number>;
  onOpen: (lane: string) => void;
};

/** Who says the same: shown side by side, with no vote on who is right. */
function Camps({ lanes, marks, onOpen }: CampsProps) {
  const groups = new Map<number, LaneFindings[]>();
  for (const lane of lanes) {
    const group = lane.agreement?.group;
    if (group !== null && group !== undefined)
      groups.set(group, [...(groups.get(group) ?? []), lane]);
  }
  if (groups.size < 2) return null;
  return (
    <div className="groups" data-testid="groups" aria-label="Lanes that say the same">
      {[...groups.entries()]
        .sort(([a], [b]) => a - b)
        .map(([group, members]) => (
          <div key={group} className="group">
            <div className="group-head">
              {members.length === 1 ? "One lane says" : `${members.length} lanes say`}{" "}
              <strong>{String.fromCharCode(65 + group)}</strong>
              {group === 0 && <span className="faint">, with the reference</span>}
            </div>
            {members.map((lane) => (
              <button key={lane.id} className="text" onClick={() => onOpen(lane.id)}>
                <Glyph place={marks[lane.id] ?? 0} /> {lane.name}
              </button>
            ))}
          </div>
        ))}
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
          <td key={name} className={good ? "quiet" : name === "types" ? "caution" : "bad"}>
            {text}
          </td>
        );
      })}
    </tr>
  );
}
