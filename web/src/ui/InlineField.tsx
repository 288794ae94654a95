/** A value that stands in a line of words and is changed where it stands. */
import { useEffect, useRef, useState } from "react";

type Props = {
  value: string;
  label: string;
  /** Called with each change while typing, and with null when it is given back. */
  onTyping: (value: string | null) => void;
  onTake: (value: string) => void;
  wrong?: string;
  id?: string;
  numeric?: boolean;
};

const TYPING_MS = 150;

export function InlineField({ value, label, onTyping, onTake, wrong, id, numeric }: Props) {
  const [draft, setDraft] = useState<string | null>(null);
  // What stood here before: the value given may follow what is being typed.
  const before = useRef(value);
  const timer = useRef(0);
  useEffect(() => () => window.clearTimeout(timer.current), []);
  const shown = draft ?? value;
  // Given while what stood here before was still called wrong: taken once that is over.
  const asked = useRef(false);
  useEffect(() => {
    if (!asked.current || wrong || draft === null) return;
    const soon = window.setTimeout(() => {
      asked.current = false;
      onTake(draft);
      setDraft(null);
    });
    return () => window.clearTimeout(soon);
  }, [wrong, draft, onTake]);
  const take = () => {
    if (draft === null) return;
    if (draft === before.current) giveBack();
    // What is wrong stays where it was typed, with its reason, until it is mended.
    else if (wrong) asked.current = true;
    else {
      window.clearTimeout(timer.current);
      onTake(draft);
      setDraft(null);
    }
  };
  const giveBack = () => {
    window.clearTimeout(timer.current);
    asked.current = false;
    setDraft(null);
    onTyping(null);
  };
  return (
    <input
      className={`inline-field${wrong ? " wrong" : ""}`}
      style={{ width: `${Math.min(Math.max(shown.length, 1) + 0.6, 34)}ch` }}
      value={shown}
      aria-label={label}
      aria-invalid={Boolean(wrong)}
      data-testid={id}
      inputMode={numeric ? "decimal" : undefined}
      spellCheck={false}
      onChange={(event) => {
        const next = event.target.value;
        asked.current = false;
        if (draft === null) before.current = value;
        setDraft(next);
        window.clearTimeout(timer.current);
        timer.current = window.setTimeout(() => onTyping(next), TYPING_MS);
      }}
      onBlur={take}
      onKeyDown={(event) => {
        if (event.key === "Enter") take();
        if (event.key === "Escape") giveBack();
      }}
    />
  );
}
