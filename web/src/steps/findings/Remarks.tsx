/** What people wrote beside the figures, and what they claimed from them. */
import { CloseOutlined, EditOutlined, PushpinOutlined } from "@ant-design/icons";
import { Button, Input, Tooltip } from "antd";
import { lazy, Suspense, useState } from "react";
import type { Claim, Comparison, JudgedClaim, Note } from "../../api/client";
import { changes, useChange } from "../../api/queries";
import { useQueryClient } from "@tanstack/react-query";

const Markdown = lazy(() => import("react-markdown"));

/** What a note is of: a lane, a pair of lanes, or the comparison where it is null. */
export type Subject = { lane?: string; pair?: [string, string] } | null;

function isOf(note: Note, subject: Subject): boolean {
  if (!subject) return note.lane === null && note.pair === null;
  if (subject.lane) return note.lane === subject.lane;
  return !!note.pair && subject.pair?.every((lane) => note.pair?.includes(lane)) === true;
}

/** Putting other notes or claims in place of those that are there. */
export function useRemarks(comparison: Comparison) {
  const change = useChange(comparison.id);
  const cache = useQueryClient();
  const put = (notes: Note[], claims: Claim[]) =>
    change.mutate(changes.remarks(notes, claims), {
      onSuccess: () => void cache.invalidateQueries({ queryKey: ["findings"] }),
    });
  return {
    notes: (notes: Note[]) => put(notes, comparison.claims),
    claims: (claims: Claim[]) => put(comparison.notes, claims),
    saving: change.isPending,
  };
}

export function Notes({ comparison, subject }: { comparison: Comparison; subject: Subject }) {
  const put = useRemarks(comparison);
  const [editing, setEditing] = useState<number | "new" | null>(null);
  const all = comparison.notes;
  const own = all.map((note, i) => ({ note, i })).filter(({ note }) => isOf(note, subject));
  const keep = (place: number | "new", text: string) => {
    const note: Note = { text, lane: subject?.lane ?? null, pair: subject?.pair ?? null };
    const next =
      place === "new"
        ? [...all, note]
        : all.map((before, i) => (i === place ? { ...before, text } : before));
    put.notes(text.trim() ? next : all.filter((_, i) => i !== place));
    setEditing(null);
  };
  return (
    <section className="notes" aria-label="Notes" data-testid="notes">
      {own.map(({ note, i }) =>
        editing === i ? (
          <NoteField
            key={i}
            text={note.text}
            onKeep={(text) => keep(i, text)}
            onLeave={() => setEditing(null)}
          />
        ) : (
          <div key={i} className="note">
            <Suspense fallback={<p>{note.text}</p>}>
              <Markdown skipHtml disallowedElements={["img"]}>
                {note.text}
              </Markdown>
            </Suspense>
            <Button
              size="small"
              type="text"
              icon={<EditOutlined />}
              aria-label="Change the note"
              onClick={() => setEditing(i)}
            />
            <Button
              size="small"
              type="text"
              icon={<CloseOutlined />}
              aria-label="Take the note away"
              onClick={() => put.notes(all.filter((_, place) => place !== i))}
            />
          </div>
        ),
      )}
      {editing === "new" ? (
        <NoteField text="" onKeep={(text) => keep("new", text)} onLeave={() => setEditing(null)} />
      ) : (
        <Button size="small" type="link" className="add-note" onClick={() => setEditing("new")}>
          {subject
            ? subject.lane
              ? "Write a note on this lane"
              : "Write a note on this pair"
            : "Write a note on this comparison"}
        </Button>
      )}
    </section>
  );
}

type FieldProps = { text: string; onKeep: (text: string) => void; onLeave: () => void };

function NoteField({ text, onKeep, onLeave }: FieldProps) {
  const [typed, setTyped] = useState(text);
  return (
    <div className="note-field">
      <Input.TextArea
        autoFocus
        autoSize={{ minRows: 2, maxRows: 14 }}
        value={typed}
        maxLength={20_000}
        aria-label="Note"
        placeholder="Markdown: what you saw, and why it is so"
        onChange={(event) => setTyped(event.target.value)}
        onKeyDown={(event) => event.key === "Escape" && onLeave()}
      />
      <Button size="small" type="primary" onClick={() => onKeep(typed)}>
        Keep it
      </Button>
      <Button size="small" onClick={onLeave}>
        Leave it
      </Button>
    </div>
  );
}

const STATES: Record<JudgedClaim["state"], { mark: string; className: string }> = {
  holds: { mark: "holds", className: "good" },
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

/** Pinning a finding as a claim: its words can be changed first. */
export function Pin({ comparison, claim }: { comparison: Comparison; claim: Claim }) {
  const put = useRemarks(comparison);
  const [text, setText] = useState<string | null>(null);
  const pinned = comparison.claims.some(
    (c) =>
      c.lower === claim.lower &&
      c.higher === claim.higher &&
      c.measure === claim.measure &&
      JSON.stringify(c.where) === JSON.stringify(claim.where),
  );
  if (pinned) return <span className="small faint">pinned as a claim</span>;
  if (text === null) {
    return (
      <Tooltip title="Keep this as a claim with its conditions: it goes into the report, and later trials say whether it still holds">
        <Button size="small" icon={<PushpinOutlined />} onClick={() => setText(claim.text)}>
          Pin as a claim
        </Button>
      </Tooltip>
    );
  }
  return (
    <div className="note-field">
      <Input.TextArea
        autoFocus
        autoSize
        maxLength={2000}
        value={text}
        aria-label="Claim"
        onChange={(event) => setText(event.target.value)}
      />
      <Button
        size="small"
        type="primary"
        disabled={!text.trim()}
        onClick={() => {
          put.claims([...comparison.claims, { ...claim, text }]);
          setText(null);
        }}
      >
        Pin it
      </Button>
      <Button size="small" onClick={() => setText(null)}>
        Leave it
      </Button>
    </div>
  );
}
