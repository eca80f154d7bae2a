import { keepPreviousData, type UseQueryResult, useQuery } from "@tanstack/react-query";
import { useMemo, useRef } from "react";
import { api, type ChartWindow, get, Problem } from "../../api/client";
import type { Range } from "../../charts/TimePane";
import type { By, Freshness } from "./types";

const OVERVIEW_POINTS = 1_500;
export const POINTS = 6_000;

/** The figures of a stream of a scan at each of the levels. */
export const curveQuery = (scanId: number | null, stream: number) => ({
  queryKey: ["curve", scanId, stream],
  enabled: scanId !== null,
  queryFn: () =>
    get(
      api.GET("/api/v1/scans/{id}/streams/{stream}/curve", {
        params: { path: { id: scanId ?? 0, stream } },
      }),
    ),
});

/** A span's samples, of a scan where there is one. */
export function windowQuery(
  scanId: number | null,
  id: number,
  span: Range | null,
  points: number,
  { hasParts = false, by = "" }: { hasParts?: boolean; by?: By | "" } = {},
) {
  return {
    queryKey: ["window", scanId, id, span?.[0] ?? null, span?.[1] ?? null, points, hasParts, by],
    queryFn: ({ signal }: { signal: AbortSignal }) => {
      const ask = { from: span?.[0], to: span?.[1], points, by: by || undefined };
      return scanId === null
        ? get(api.GET("/api/v1/streams/{id}/samples", { params: { path: { id }, query: ask }, signal }))
        : get(
            api.GET("/api/v1/scans/{id}/streams/{stream}/window", {
              params: { path: { id: scanId, stream: id }, query: { ...ask, components: hasParts } },
              signal,
            }),
          );
    },
  };
}

/** Half a window more on both sides, on a coarse grid: panning a little needs nothing new. */
export function aroundOf([from, to]: Range): Range {
  const grid = (to - from) / 2;
  return [Math.floor((from - grid) / grid) * grid, Math.ceil((to + grid) / grid) * grid];
}

function freshnessOf(view: UseQueryResult<ChartWindow>): Freshness {
  if (view.fetchStatus === "paused") return "offline";
  // While it is tried again, the last reason says what is wrong.
  if (view.failureReason) return view.failureReason instanceof Problem ? "failed" : "offline";
  return view.isPlaceholderData || (view.isFetching && !view.isPending) ? "refreshing" : "current";
}

/** What the workbench draws: the whole stream in few points, and what is in sight once a gesture has ended. */
export function useView(
  scanId: number | null,
  id: number,
  settled: Range,
  look: { hasParts: boolean; by: By | "" },
) {
  const around = useMemo(() => aroundOf(settled), [settled]);
  const view = useQuery({
    ...windowQuery(scanId, id, around, POINTS, look),
    placeholderData: keepPreviousData,
  });
  // The chart first: what stands beside it would share the server with it.
  const isDrawn = view.data !== undefined || view.isError;
  const overview = useQuery({ ...windowQuery(scanId, id, null, OVERVIEW_POINTS), enabled: isDrawn });
  const curve = useQuery({ ...curveQuery(scanId, id), enabled: isDrawn && scanId !== null });
  const scan = useQuery({
    queryKey: ["scan", scanId],
    enabled: isDrawn && scanId !== null,
    queryFn: () => get(api.GET("/api/v1/scans/{id}", { params: { path: { id: scanId ?? 0 } } })),
  });
  // What was drawn last stays, also where the next could not be had.
  const last = useRef(view.data);
  if (view.data) last.current = view.data;
  return {
    overview,
    view,
    shown: view.data ?? last.current,
    curve,
    scan,
    isDrawn,
    freshness: freshnessOf(view),
  };
}
