/** What the keyboard can do, and the sheet that says so. */
import { Drawer } from "antd";
import { useEffect, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import type { Trial, TrialLine } from "../api/client";
import { STEPS } from "../steps";
import { useView } from "../ui/view";

type Props = { comparison: number; trial?: Trial | undefined; trials?: TrialLine[] | undefined };

const VIEWS: Record<string, string | null> = { b: null, c: "scatter", s: "steps", p: "pair" };

const SHEET: [string, string][] = [
  [`1 to ${STEPS.length}`, `the steps, from ${STEPS[0].word} to ${STEPS.at(-1)?.word ?? ""}`],
  ["b, c, s, p", "in Findings: board, scatter, steps, pair"],
  ["[ and ]", "the point before, and the next"],
  ["< and >", "the older trial, and the newer"],
  ["arrow keys", "on the right edge of a heading: its width"],
  ["Enter", "on a lane, a dot, a step: open it"],
  ["Esc", "close what is open"],
  ["?", "this sheet"],
];

/** Whether a key is typed into something, and so no shortcut. */
function typed(event: KeyboardEvent): boolean {
  const at = event.target as HTMLElement | null;
  const taken = at?.closest("input, textarea, select, [contenteditable], .ant-select");
  return !!taken || event.ctrlKey || event.metaKey || event.altKey;
}

export function Shortcuts({ comparison, trial, trials }: Props) {
  const [open, setOpen] = useState(false);
  const view = useView();
  const navigate = useNavigate();
  const [search] = useSearchParams();
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      if (typed(event)) return;
      const key = event.key;
      if (key === "?") return setOpen(true);
      const step = STEPS[Number(key) - 1];
      if (step) {
        const kept = new URLSearchParams(search);
        for (const name of ["run", ...(step.drops ?? [])]) kept.delete(name);
        void navigate({
          pathname: `/comparisons/${comparison}/${step.address}`,
          search: `?${kept}`,
        });
      } else if (key in VIEWS && view.step === "findings") {
        view.set({ show: VIEWS[key] ?? null });
      } else if ((key === "[" || key === "]") && trial) {
        const points = trial.points.map((point) => JSON.stringify(point));
        const at = Math.max(0, points.indexOf(view.point ?? points[0] ?? ""));
        const next = points[at + (key === "]" ? 1 : -1)];
        if (next) view.set({ point: next, run: null });
      } else if ((key === "<" || key === ">") && trial && trials) {
        const at = trials.findIndex((one) => one.id === trial.id);
        const next = trials[at + (key === "<" ? 1 : -1)];
        if (next) view.set({ trial: next.id, point: null, run: null });
      }
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [comparison, navigate, search, trial, trials, view]);
  return (
    <Drawer open={open} mask={false} size={460} onClose={() => setOpen(false)} title="Keys">
      <table className="plain" data-testid="keys">
        <tbody>
          {SHEET.map(([keys, what]) => (
            <tr key={keys}>
              <td>
                <kbd>{keys}</kbd>
              </td>
              <td>{what}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Drawer>
  );
}
