/** What the workbench of a stream opens with, and how to have it there before somebody does. */

import { type QueryClient, useQueryClient } from "@tanstack/react-query";
import { type PointerEvent, useRef } from "react";
import { api, get } from "../../api/client";
import type { Range } from "../../charts/TimePane";
import type { StreamFacts } from "./types";
import { aroundOf, POINTS, windowQuery } from "./useView";

const WEEK = 7 * 86_400_000;
/** What is shown first: three weeks, and more where samples are further apart. */
const FIRST_SAMPLES = 200;
/** A pointer that stays so long on a stream may be about to open it. */
const DWELL_MS = 120;

export const streamQuery = (id: number) => ({
  queryKey: ["stream", id],
  queryFn: () => get(api.GET("/api/v1/streams/{id}", { params: { path: { id } } })),
});

/** The span that the workbench opens with. */
export function firstRange(stream: StreamFacts): Range {
  const [from, to] = [stream.first ?? 0, stream.last ?? 1];
  return [Math.max(from, to - Math.max(3 * WEEK, FIRST_SAMPLES * stream.step_s * 1000)), to];
}

/** A stream and its chart, as the workbench will want them: the second as soon as the first is there. */
export async function fetchAhead(
  client: QueryClient,
  id: number,
  scan?: number | null,
  range?: Range | null,
) {
  const stream = await client.fetchQuery(streamQuery(id));
  const around = aroundOf(range ?? firstRange(stream));
  await client.prefetchQuery(windowQuery(scan ?? stream.standing_scan ?? null, id, around, POINTS));
}

/** For a link to a stream: its chart is fetched while the pointer rests on it, and at the latest when it is pressed. */
export function useAhead(id: number) {
  const client = useQueryClient();
  const timer = useRef(0);
  const forget = () => window.clearTimeout(timer.current);
  // Without it the workbench says what is wrong.
  const fetch = () => void fetchAhead(client, id).catch(() => undefined);
  return {
    // A key that opens a link is a click too.
    onClick: fetch,
    onPointerEnter: (e: PointerEvent) => {
      // A finger that touches opens at once.
      if (e.pointerType !== "mouse") return;
      forget();
      timer.current = window.setTimeout(fetch, DWELL_MS);
    },
    onPointerLeave: forget,
  };
}
