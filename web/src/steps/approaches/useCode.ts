/** The code of a lane as it is typed: saved shortly after, and when the lane is left. */
import { useEffect, useRef, useState } from "react";
import type { Lane } from "../../api/client";
import { changes, type useChange } from "../../api/queries";

const SAVE_AFTER_MS = 700;

export function useCode(lane: Lane, change: ReturnType<typeof useChange>) {
  const [code, setCode] = useState(lane.code);
  const [saved, setSaved] = useState(lane.code);
  const timer = useRef<number>(0);
  const save = (text: string) => {
    if (text === saved) return;
    setSaved(text);
    change.mutate(changes.lane(lane.id, { code: text }));
  };
  const saveNow = async () => {
    window.clearTimeout(timer.current);
    if (code === saved) return;
    setSaved(code);
    await change.mutateAsync(changes.lane(lane.id, { code }));
  };
  const typed = (text: string) => {
    setCode(text);
    window.clearTimeout(timer.current);
    timer.current = window.setTimeout(() => save(text), SAVE_AFTER_MS);
  };
  const last = useRef(() => {});
  useEffect(() => {
    last.current = () => {
      window.clearTimeout(timer.current);
      save(code);
    };
  });
  // What was typed just before leaving is saved too.
  useEffect(() => () => last.current(), []);
  return { code, typed, saveNow, isSaved: code === saved };
}
