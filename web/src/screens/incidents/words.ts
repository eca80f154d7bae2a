import type { IncidentRow } from "../../api/client";
import { dayTime, duration, plural, zoneName } from "../../parts/words";

/** Where an incident is opened. */
export function incidentLink(row: IncidentRow): string {
  return row.id === null ? `/incidents/proposed/${row.finding}` : `/incidents/${row.id}`;
}

/** How many streams, and of which metrics. */
export function scopeWords(row: IncidentRow): string {
  const named = row.metrics.slice(0, 3).join(", ");
  const rest = row.metrics.length - 3;
  return `${plural(row.streams, "stream")} · ${named}${rest > 0 ? ` and ${rest} more` : ""}`;
}

export function whenWords(row: IncidentRow): string {
  if (row.start === null || row.end === null) return "";
  const length = row.end > row.start ? `, ${duration((row.end - row.start) / 1000)}` : "";
  return `${dayTime(row.start, row.zone)} ${zoneName(row.start, row.zone)}${length}`;
}

export function stateWords(row: IncidentRow, me: string): string {
  if (row.state === "apart") return "not one thing";
  if (row.state !== "open") return row.state;
  return row.taken_by === "" ? "open" : row.taken_by === me ? "yours" : `assigned to ${row.taken_by}`;
}

/** How many groups like it chance would bring about. */
export function chanceWords(expected: number): string {
  if (expected < 1e-4) return "never";
  return expected < 0.01 ? "under 0.01" : expected.toFixed(2);
}
