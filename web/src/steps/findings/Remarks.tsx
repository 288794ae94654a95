/** What people wrote beside the figures. */
import { CloseOutlined, EditOutlined } from "@ant-design/icons";
import { Button, Input } from "antd";
import { lazy, Suspense, useState } from "react";
import type { Claim, Comparison, Note } from "../../api/client";
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
