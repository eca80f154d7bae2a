/** Spans as people write them: "3 d", "36h", "2 weeks", or two days "2026-05-01 to 2026-05-09". */

import type { Range } from "../../charts/TimePane";
import { localMs } from "../../parts/clock";

const UNITS: Record<string, number> = {
  min: 60_000,
  h: 3_600_000,
  d: 86_400_000,
  w: 7 * 86_400_000,
  m: 30.436875 * 86_400_000,
  y: 365.2425 * 86_400_000,
};
const NAMES: [RegExp, number][] = [
  [/^(min|mins|minute|minutes)$/, UNITS.min ?? 0],
  [/^(h|hr|hrs|hour|hours)$/, UNITS.h ?? 0],
  [/^(d|day|days)$/, UNITS.d ?? 0],
  [/^(w|wk|week|weeks)$/, UNITS.w ?? 0],
  [/^(m|mo|month|months)$/, UNITS.m ?? 0],
  [/^(y|year|years)$/, UNITS.y ?? 0],
];

/** How long a written length is, in ms; null where it is none. */
export function lengthOf(text: string): number | null {
  const found = /^(\d+(?:\.\d+)?)\s*([a-z]+)$/i.exec(text.trim());
  if (!found) return null;
  const unit = NAMES.find(([name]) => name.test((found[2] ?? "").toLowerCase()))?.[1];
  const length = Number(found[1]) * (unit ?? 0);
  return length > 0 ? length : null;
}

const DAY = /^\d{4}-\d{2}-\d{2}$/;

/** From one written day or time to another, both by the clock of the zone; null where it is none. */
export function betweenOf(text: string, zone: string): Range | null {
  const [a, b, more] = text.trim().split(/\s+(?:to|–|-|until)\s+/);
  if (!a || !b || more !== undefined) return null;
  const from = localMs(a, zone);
  // A day is meant in full.
  const to = DAY.test(b) ? localMs(`${b} 24:00`, zone) : localMs(b, zone);
  return from !== null && to !== null && from < to ? [from, to] : null;
}

/** A length in words that can be written back. */
export function lengthWords(ms: number): string {
  const [name, unit] = Object.entries(UNITS)
    .reverse()
    .find(([n, u]) => n !== "m" && ms / u >= 0.995) ?? ["min", UNITS.min ?? 1];
  return `${Number((ms / unit).toFixed(1))} ${name}`;
}

/** A span in whole hours, as a board's pane takes it. */
export const spanHours = ([from, to]: readonly [number, number]) =>
  Math.min(Math.max(Math.round((to - from) / 3_600_000), 1), 8_784);
