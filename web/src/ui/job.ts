/** How a job stands, and what that means for who watches it. */
import type { Schemas } from "../api/client";

export type JobState = Schemas["JobState"];

/** Whether something is to come of it yet. */
export function underWay(state: JobState | undefined): boolean {
  return state === "waiting" || state === "running" || state === "paused";
}

/** Whether it will go on by itself. */
export function goesOn(state: JobState | undefined): boolean {
  return state === "waiting" || state === "running";
}
