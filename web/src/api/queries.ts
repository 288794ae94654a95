/** What the page asks the server for, each with its key in the cache. */
import { type QueryClient, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { App } from "antd";
import { useEffect } from "react";
import {
  api,
  taken,
  type BoardColumn,
  type Claim,
  type Comparison,
  type Note,
  type Problem,
  type Schemas,
} from "./client";

const NOW_EVERY_MS = 4000;
/** While something is timed every question disturbs it. */
const NOW_WHILE_TIMING_MS = 20_000;

export function useNow() {
  return useQuery({
    queryKey: ["now"],
    queryFn: () => taken(api.GET("/api/now/")),
    refetchInterval: (query) => (query.state.data?.timing ? NOW_WHILE_TIMING_MS : NOW_EVERY_MS),
    retry: false,
  });
}

/** Interpreters that are registered beside Ivrell's own. */
export function useRuntimes() {
  return useQuery({
    queryKey: ["runtimes"],
    queryFn: () => taken(api.GET("/api/runtimes/")),
  });
}

export function useComparisons() {
  return useQuery({
    queryKey: ["comparisons"],
    queryFn: () => taken(api.GET("/api/comparisons/")),
  });
}

export function useComparison(id: number) {
  return useQuery({
    queryKey: ["comparison", id],
    queryFn: () => taken(api.GET("/api/comparisons/{id}/", { params: { path: { id } } })),
  });
}

export function useTrials(comparison: number) {
  return useQuery({
    queryKey: ["trials", comparison],
    queryFn: () => taken(api.GET("/api/trials/", { params: { query: { comparison } } })),
  });
}

export function useTrial(id: number | null) {
  return useQuery({
    queryKey: ["trial", id],
    enabled: id !== null,
    queryFn: () => taken(api.GET("/api/trials/{id}/", { params: { path: { id: id ?? 0 } } })),
  });
}

/** Ask anew for all that the end of a trial changes. */
export function trialEnded(cache: QueryClient, comparison: number, trial: number) {
  const of = [
    ["trial", trial],
    ["findings", trial],
    ["sweep", trial],
    ["trials", comparison],
  ];
  for (const queryKey of [...of, ["comparisons"]]) void cache.invalidateQueries({ queryKey });
}

/** Where no live view hears it: a trial that is shown as waiting or running, and is not the one
 * that runs now, may have ended. */
export function useEndOf(comparison: number, trial: Schemas["TrialShape"] | undefined) {
  const cache = useQueryClient();
  const now = useNow();
  const id = trial?.id ?? null;
  const goesOn = trial?.state === "running" || trial?.state === "waiting";
  const over = goesOn && now.data !== undefined && now.data.trial !== id;
  const asked = now.dataUpdatedAt;
  useEffect(() => {
    if (!over || id === null) return;
    trialEnded(cache, comparison, id);
  }, [over, asked, id, comparison, cache]);
}

export function useFindings(trial: number | null, point: string | null) {
  return useQuery({
    queryKey: ["findings", trial, point],
    enabled: trial !== null,
    queryFn: () =>
      taken(
        api.GET("/api/trials/{id}/findings/", {
          params: { path: { id: trial ?? 0 }, query: point ? { point } : {} },
        }),
      ),
    placeholderData: (before) => (before?.trial === trial ? before : undefined),
  });
}

/** The trials of a comparison over time. */
export function useHistory(
  comparison: number,
  asked: { point: string | null; measure: string | null; anchor: string | null },
) {
  const query = Object.fromEntries(Object.entries(asked).filter(([, value]) => value !== null));
  return useQuery({
    queryKey: ["history", comparison, query],
    queryFn: () =>
      taken(
        api.GET("/api/comparisons/{comparison}/history/", {
          params: { path: { comparison }, query },
        }),
      ),
    placeholderData: (before) => before,
    retry: false,
  });
}

/** A trial laid over another one at a point. */
export function useOverlay(trial: number, under: number | null, point: string | null) {
  return useQuery({
    queryKey: ["overlay", trial, under, point],
    enabled: under !== null && under !== trial,
    queryFn: () =>
      taken(
        api.GET("/api/trials/{id}/overlay/", {
          params: {
            path: { id: trial },
            query: { under: under ?? 0, ...(point ? { point } : {}) },
          },
        }),
      ),
  });
}

/** How lanes do over all points; asked for anew where the findings in view are others. */
export function useSweep(trial: number | null, findings: unknown) {
  return useQuery({
    queryKey: ["sweep", trial, findings ? "known" : "none"],
    enabled: trial !== null,
    queryFn: () =>
      taken(api.GET("/api/trials/{id}/sweep/", { params: { path: { id: trial ?? 0 } } })),
  });
}

/** Two lanes held against each other. */
export function usePair(trial: number, point: string | null, base: string, lane: string) {
  return useQuery({
    queryKey: ["pair", trial, point, base, lane],
    enabled: base !== lane,
    queryFn: () =>
      taken(
        api.GET("/api/trials/{id}/pair/", {
          params: { path: { id: trial }, query: { base, lane, ...(point ? { point } : {}) } },
        }),
      ),
  });
}

export function useRun(trial: number, number: number | null) {
  return useQuery({
    queryKey: ["run", trial, number],
    enabled: number !== null,
    queryFn: () =>
      taken(
        api.GET("/api/trials/{id}/runs/{number}/", {
          params: { path: { id: trial, number: number ?? 0 } },
        }),
      ),
    staleTime: Infinity,
  });
}

const MACHINES_MS = 5_000;

/** Machines that have joined, or may; watched where that is looked at. */
export function useMachines(watched = false) {
  return useQuery({
    queryKey: ["machines"],
    queryFn: () => taken(api.GET("/api/machines/")),
    refetchInterval: watched ? MACHINES_MS : false,
  });
}

/** The trials of a group, machine by machine. */
export function useAcross(trial: number, point: string | null, on: boolean) {
  return useQuery({
    queryKey: ["across", trial, point],
    enabled: on,
    retry: false,
    queryFn: () =>
      taken(
        api.GET("/api/trials/{id}/across/", {
          params: { path: { id: trial }, query: point ? { point } : {} },
        }),
      ),
  });
}

export function useMachine() {
  return useQuery({
    queryKey: ["machine"],
    queryFn: () => taken(api.GET("/api/machine/")),
  });
}

/** What a start still installs is looked at so often. */
const ARRIVING_MS = 5_000;

export function useEngines() {
  return useQuery({
    queryKey: ["engines"],
    queryFn: () => taken(api.GET("/api/engines/")),
    staleTime: Infinity,
    refetchInterval: ({ state }) =>
      state.data?.engines.some((engine) => engine.arriving) ? ARRIVING_MS : false,
  });
}

export type Change = (id: number) => Promise<Comparison>;

/** Change a comparison; the answer takes the place of what was shown. Errors are told. */
export function useChange(id: number, options: { quiet?: boolean } = {}) {
  const cache = useQueryClient();
  const { message } = App.useApp();
  return useMutation<Comparison, Problem, Change>({
    mutationFn: (change) => change(id),
    // One behind the other: none that is slow comes back over what was changed after it.
    scope: { id: `comparison ${id}` },
    onSuccess: (changed) => {
      cache.setQueryData(["comparison", id], changed);
      void cache.invalidateQueries({ queryKey: ["comparisons"] });
      void cache.invalidateQueries({ queryKey: ["look", id] });
    },
    onError: (problem) => {
      if (!options.quiet) void message.error(problem.message, 6);
    },
  });
}

const at = (id: number) => ({ params: { path: { id } } });

export const changes = {
  settings: (body: Schemas["PatchedSettingsChangeRequest"]) => (id: number) =>
    taken(api.PATCH("/api/comparisons/{id}/", { ...at(id), body })),
  recipe: (text: string) => (id: number) =>
    taken(api.PUT("/api/comparisons/{id}/recipe/", { ...at(id), body: { text } })),
  addLane: (body: Schemas["NewLaneRequest"]) => (id: number) =>
    taken(api.POST("/api/comparisons/{id}/lanes/", { ...at(id), body })),
  lane: (lane: string, body: Schemas["PatchedLaneChangeRequest"]) => (id: number) =>
    taken(
      api.PATCH("/api/comparisons/{id}/lanes/{lane}/", { params: { path: { id, lane } }, body }),
    ),
  codeIsRead: () => (id: number) => taken(api.POST("/api/comparisons/{id}/code-is-read/", at(id))),
  removeLane: (lane: string) => (id: number) =>
    taken(api.DELETE("/api/comparisons/{id}/lanes/{lane}/", { params: { path: { id, lane } } })),
  retire: (lane: string, retired: boolean) => changes.lane(lane, { retired }),
  order: (ids: string[]) => (id: number) =>
    taken(api.PUT("/api/comparisons/{id}/lane-order/", { ...at(id), body: { ids } })),
  remarks: (notes: Note[], claims: Claim[]) => (id: number) =>
    taken(api.PUT("/api/comparisons/{id}/remarks/", { ...at(id), body: { notes, claims } })),
  cost: (body: Schemas["Assumed"]) => (id: number) =>
    taken(api.PUT("/api/comparisons/{id}/cost/", { ...at(id), body })),
  board: (columns: BoardColumn[]) => (id: number) =>
    taken(api.PUT("/api/comparisons/{id}/board/", { ...at(id), body: { columns } })),
  text: (text: string) => (id: number) =>
    taken(api.PUT("/api/comparisons/{id}/text/", { ...at(id), body: { text } })),
};
