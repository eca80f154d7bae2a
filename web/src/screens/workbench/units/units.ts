import type { ChartWindow, Schema } from "../../../api/client";

export type UnitsData = Schema["Units"];
export type Unit = Schema["Unit"];

/** How the units stand apart: those that trained, stopped it, and never had a part in it; and those an incident touches. */
export const GROUPS = ["training", "validation", "test", "incidents"] as const;
export type GroupName = (typeof GROUPS)[number];

/** The unit with the largest score. */
export function worstOf({ score }: UnitsData): number {
  return score.reduce<number>((best, s, i) => ((s ?? -1) > (score[best] ?? -1) ? i : best), 0);
}

export function groupOf(data: UnitsData, i: number): GroupName {
  // One that was labelled as it was scanned did not train, whatever the logbook holds now.
  const part = data.part[i];
  return data.is_odd[i] || part === "labelled" ? "incidents" : ((part ?? "test") as GroupName);
}

export interface Confusion {
  tp: number;
  fp: number;
  fn: number;
  tn: number;
}

/** Units of the test at a level, as the server counted them. */
export function confusionAt(data: UnitsData, level: number): Confusion {
  const first = data.levels[0] ?? 2;
  const step = (data.levels[1] ?? 2.05) - first;
  const i = Math.min(data.levels.length - 1, Math.max(0, Math.round((level - first) / step)));
  const at = (counts: number[]) => counts[i] ?? 0;
  return { tp: at(data.tp), fp: at(data.fp), fn: at(data.fn), tn: at(data.tn) };
}

/** Counts by score in bins half a sigma wide; what lies past the end stands in the last. */
export function binned(data: UnitsData, name: GroupName, bins: number, width: number): number[] {
  const counts = new Array<number>(bins).fill(0);
  data.score.forEach((s, i) => {
    if (s === null || groupOf(data, i) !== name) return;
    const at = Math.min(bins - 1, Math.floor(s / width));
    counts[at] = (counts[at] ?? 0) + 1;
  });
  return counts;
}

/** A duration of a burst: milliseconds under a second. */
export function shortWords(seconds: number): string {
  if (seconds >= 120) return `${Math.round(seconds / 60)} min`;
  return seconds >= 1 ? `${Number(seconds.toFixed(1))} s` : `${Math.round(seconds * 1000)} ms`;
}

/** How long its units are, of a scan that judges them as wholes. */
export function unitLength(view: ChartWindow): number | null {
  const prepare = (view.resolved as { prepare?: { unit?: { samples: number } } } | undefined)?.prepare;
  return prepare?.unit?.samples ?? null;
}
