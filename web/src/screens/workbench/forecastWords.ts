import type { ChartWindow, Schema } from "../../api/client";
import { iso } from "../../api/wire";
import { svgOf } from "../../charts/picture";
import { tickWords } from "../../charts/ticks";
import { dayTime, figure } from "../../parts/words";

import type { StreamFacts } from "./types";

export type ForecastData = Schema["Forecast"];

/** When a limit is reached, in a sentence. */
export function reachedWords(
  reached: NonNullable<ForecastData["limit"]>,
  unit: string,
  zone: string,
): string {
  const value = `${figure(reached.limit)} ${unit}`.trim();
  const half = reached.reached_with["0.5"];
  const tenth = reached.reached_with["0.1"];
  const share = `${figure(100 * reached.chance_by_end, 0)} of 100 futures reach it`;
  if (half)
    return `${value} is reached ${dayTime(half, zone)} (half of the futures${tenth ? `; one in ten by ${dayTime(tenth, zone)}` : ""}); ${share} within this span.`;
  if (tenth)
    return `${value} is reached by ${dayTime(tenth, zone)} in one of ten futures, and in fewer than half within this span: ${share}.`;
  return `${value} is not reached within this span: ${share}.`;
}

/** The forecasts as the command line writes them. */
export function asCsv(forecasts: ForecastData[]): string {
  const cell = (v: number | null | undefined) => (v === null || v === undefined ? "" : String(v));
  const rows = forecasts.flatMap((f) => {
    const series = /[",\n]/.test(f.key) ? `"${f.key.replaceAll('"', '""')}"` : f.key;
    return f.time.map(
      (t, i) =>
        `${series},${iso(t).replace(".000Z", "Z")},${cell(f.expected[i])},${cell(f.lower[i])},${cell(f.upper[i])}`,
    );
  });
  return ["series,time,expected,lower,upper", ...rows, ""].join("\n");
}

/** What was seen and what is expected, as a picture by itself. */
export function asPicture(
  stream: StreamFacts,
  past: Pick<ChartWindow, "time" | "value">,
  f: ForecastData,
): string {
  const start = f.time[0] ?? 0;
  const end = f.time.at(-1) ?? start;
  const first = past.time.findIndex((t) => t >= start - (end - start));
  const seen = past.time.slice(first).filter((t) => t < start);
  const limit = f.limit;
  return svgOf(
    {
      time: [...seen, ...f.time],
      value: [...past.value.slice(first, first + seen.length), ...f.time.map(() => null)],
      expected: [...seen.map(() => null), ...f.expected],
    },
    [seen[0] ?? start, end],
    { above: null, below: null },
    {
      title: `${stream.metric}: ${stream.title}, ${limit ? reachedWords(limit, stream.unit, stream.zone) : "forecast"}`,
      unit: stream.unit,
      zone: stream.zone,
      source: "Watch Tide",
    },
    tickWords(stream.zone),
    {
      wash: { time: f.time, lower: f.lower, upper: f.upper },
      upright: [{ at: start, words: "from here on expected" }],
      level: limit ? [{ at: limit.limit, words: `limit ${figure(limit.limit)} ${stream.unit}` }] : [],
      key: "Line: observed. Broken: expected. Wash: its interval.",
    },
  );
}
