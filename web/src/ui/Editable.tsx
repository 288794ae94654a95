/** A field that is taken when one leaves it or presses Enter, and given back on Escape. */
import { Input } from "antd";
import { useState } from "react";

type Props = {
  value: string;
  label: string;
  onTake: (value: string) => void;
  lines?: number;
  placeholder?: string;
  id?: string;
  wrong?: (value: string) => string;
  className?: string;
};

export function Editable({
  value,
  label,
  onTake,
  lines,
  placeholder,
  id,
  wrong,
  className,
}: Props) {
  const [draft, setDraft] = useState<string | null>(null);
  const shown = draft ?? value;
  const problem = draft !== null && wrong ? wrong(draft) : "";
  const take = () => {
    if (draft !== null && draft !== value && !problem) onTake(draft);
    if (!problem) setDraft(null);
  };
  const common = {
    value: shown,
    placeholder,
    className,
    "aria-label": label,
    "data-testid": id,
    status: problem ? ("error" as const) : undefined,
    onChange: (event: { target: { value: string } }) => setDraft(event.target.value),
    onBlur: take,
  };
  return (
    <>
      {lines ? (
        <Input.TextArea
          {...common}
          autoSize={{ minRows: lines }}
          onKeyDown={(event) => event.key === "Escape" && setDraft(null)}
        />
      ) : (
        <Input
          {...common}
          onPressEnter={take}
          onKeyDown={(event) => event.key === "Escape" && setDraft(null)}
        />
      )}
      {problem && (
        <div className="small bad" role="alert">
          {problem}
        </div>
      )}
    </>
  );
}
