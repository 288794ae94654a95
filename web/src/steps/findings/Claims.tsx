/** What was claimed from the figures, how that stands, and pinning more. */
import { CloseOutlined, PushpinOutlined } from "@ant-design/icons";
import { Button, Dropdown, Input, Segmented, Tooltip } from "antd";
import { useState } from "react";
import type { Claim, Comparison, Findings, JudgedClaim } from "../../api/client";
import {
  alike,
  asserted,
  claimsFound,
  type Interval,
  type PairStrength,
  strengths,
} from "./claims";
import { useRemarks } from "./Remarks";

const STATES: Record<JudgedClaim["state"], { mark: string; className: string }> = {
  holds: { mark: "holds", className: "good" },
  weakened: { mark: "weakened", className: "caution" },
  contradicted: { mark: "contradicted", className: "bad" },
  "cannot tell": { mark: "cannot tell", className: "caution" },
  "not measured": { mark: "not measured here", className: "faint" },
  "not of this point": { mark: "not of this point", className: "faint" },
};

/** The claims that were pinned, each as the trial in view bears it out. */
export function Claims({ comparison, judged }: { comparison: Comparison; judged: JudgedClaim[] }) {
  const put = useRemarks(comparison);
  if (!comparison.claims.length) return null;
  return (
    <section className="claims" aria-label="Claims" data-testid="claims">
      <h3>Claims</h3>
      <ul>
        {comparison.claims.map((claim, i) => {
          const found = judged[i];
          const state = found && STATES[found.state];
          return (
            <li key={i}>
              <span className={`claim-state ${state?.className ?? "faint"}`}>
                {state?.mark ?? "not looked at yet"}
              </span>
              <span>
                {claim.text}
                <span className="small faint">
                  {" "}
                  {[
                    found?.asserts,
                    Object.entries(claim.where)
                      .map(([knob, value]) => `${knob} ${String(value)}`)
                      .join(", "),
                    claim.conditions,
                  ]
                    .filter(Boolean)
                    .join(" · ")}
                </span>
                {found && <span className="small quiet"> {found.reason}</span>}
              </span>
              <Button
                size="small"
                type="text"
                icon={<CloseOutlined />}
                aria-label={`Take back: ${claim.text}`}
                onClick={() => put.claims(comparison.claims.filter((_, place) => place !== i))}
              />
            </li>
          );
        })}
      </ul>
    </section>
  );
}

/** A finding of two lanes that can be pinned: what it claims of them, and how that is said. */
export type Pinnable = {
  claim: Claim;
  interval: Interval;
  /** "less" or "faster". */
  less: string;
  say: (asserted: string) => string;
};

const STRENGTHS: Record<PairStrength, string> = {
  direction: "at all",
  factor: "at least",
  range: "within a range",
};

/** Pinning a finding as a claim, as strong as it is meant; its words can be changed first. */
export function Pin({ comparison, found }: { comparison: Comparison; found: Pinnable }) {
  const put = useRemarks(comparison);
  const [open, setOpen] = useState(false);
  const offered = strengths(found.interval);
  const [strength, setStrength] = useState<PairStrength>(offered[1] ?? "direction");
  const [typed, setTyped] = useState<string | null>(null);
  const { keys, said } = asserted(strength, found.interval, found.less);
  const text = typed ?? found.say(said);
  if (comparison.claims.some((one) => alike(one, found.claim))) {
    return <span className="small faint">pinned as a claim</span>;
  }
  if (!open) {
    return (
      <Tooltip title="Keep this as a claim with its conditions: it goes into the report, and later trials say whether it still holds">
        <Button size="small" icon={<PushpinOutlined />} onClick={() => setOpen(true)}>
          Pin as a claim
        </Button>
      </Tooltip>
    );
  }
  return (
    <div className="note-field">
      {offered.length > 1 && (
        <p className="row small">
          How strong it is:
          <Segmented
            size="small"
            aria-label="How strong it is"
            value={strength}
            options={offered.map((value) => ({
              value,
              label:
                value === "direction"
                  ? `${found.less} ${STRENGTHS[value]}`
                  : asserted(value, found.interval, found.less).said,
            }))}
            onChange={(next) => setStrength(next)}
          />
        </p>
      )}
      <Input.TextArea
        autoFocus
        autoSize
        maxLength={2000}
        value={text}
        aria-label="Claim"
        onChange={(event) => setTyped(event.target.value)}
      />
      <Button
        size="small"
        type="primary"
        disabled={!text.trim()}
        onClick={() => {
          put.claims([...comparison.claims, { ...found.claim, ...keys, text }]);
          setOpen(false);
        }}
      >
        Pin it
      </Button>
      <Button size="small" onClick={() => setOpen(false)}>
        Leave it
      </Button>
    </div>
  );
}

/** Pinning what is said of all lanes: their order, and who meets a target. */
export function PinOfAll(props: { comparison: Comparison; findings: Findings }) {
  return (
    <PinOneOf comparison={props.comparison} found={claimsFound(props.comparison, props.findings)} />
  );
}

/** A choice of claims to pin; nothing where all of them are pinned. */
export function PinOneOf({ comparison, found }: { comparison: Comparison; found: Claim[] }) {
  const put = useRemarks(comparison);
  const offered = found.filter((claim) => !comparison.claims.some((one) => alike(one, claim)));
  if (!offered.length) return null;
  return (
    <Dropdown
      trigger={["click"]}
      menu={{
        items: offered.map((claim, key) => ({ key, label: claim.text })),
        onClick: ({ key }) => {
          const claim = offered[Number(key)];
          if (claim) put.claims([...comparison.claims, claim]);
        },
      }}
    >
      <Button size="small" type="link" className="add-note" icon={<PushpinOutlined />}>
        Pin as a claim
      </Button>
    </Dropdown>
  );
}
