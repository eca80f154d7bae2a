import type { Schema } from "../../api/client";
import { iso } from "../../api/wire";
import { dayTime, figure } from "../../parts/words";

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

/** The forecast as the command line writes it. */
export function asCsv(forecast: ForecastData): string {
  const cell = (v: number | null | undefined) => (v === null || v === undefined ? "" : String(v));
  const series = /[",\n]/.test(forecast.key) ? `"${forecast.key.replaceAll('"', '""')}"` : forecast.key;
  const rows = forecast.time.map(
    (t, i) =>
      `${series},${iso(t).replace(".000Z", "Z")},${cell(forecast.expected[i])},${cell(forecast.lower[i])},${cell(forecast.upper[i])}`,
  );
  return ["series,time,expected,lower,upper", ...rows, ""].join("\n");
}
