import { useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { api, type ChartWindow, get } from "../../api/client";
import type { Range } from "../../charts/TimePane";
import { shifted } from "../../parts/clock";
import { hours } from "../../parts/words";
import type { Look, StreamFacts } from "./types";

const HOUR = 3_600_000;
const POINTS = 4_000;

export interface Earlier {
  window: Pick<ChartWindow, "time" | "value">;
  words: string;
}

/** How long before the stretch lies that is laid under, in ms, and its words. */
export function backOf(under: Look["under"], seasons: number[]): { back: number; words: string } {
  const longest = Math.max(...seasons, 24);
  const back = { "": 0, day: 24, week: 168, season: longest }[under] * HOUR;
  const name = under === "season" ? `season of ${hours(longest)}` : under;
  return { back, words: `the ${name} before` };
}

/** The same hours of an earlier day, week or season, moved to where the line is now: by the stream's clock. */
export function useUnder(stream: StreamFacts, look: Look, seasons: number[], shown: Range): Earlier | null {
  const { id, zone } = stream;
  const { back, words } = backOf(look.under, seasons);
  const [from, to] = shown;
  const before = useQuery({
    queryKey: ["samples", id, from - back, to - back, look.by],
    enabled: back > 0,
    queryFn: ({ signal }) =>
      get(
        api.GET("/api/v1/streams/{id}/samples", {
          params: {
            path: { id },
            query: {
              from: from - back - HOUR,
              to: to - back + HOUR,
              points: POINTS,
              by: look.by || undefined,
            },
          },
          signal,
        }),
      ),
  });
  return useMemo(() => {
    if (!back || !before.data) return null;
    const { time, value } = before.data;
    return { window: { time: time.map((t) => shifted(t, back, zone)), value }, words };
  }, [before.data, back, zone, words]);
}
