/** One clock: moments and the words of a zone's own clock, both ways. Times are milliseconds since 1970. */

import { offsetAt } from "../charts/ticks";

const WRITTEN = /^(\d{4})-(\d{2})-(\d{2})(?:[ T](\d{1,2}):(\d{2})(?::(\d{2}))?)?$/;

/** The moment of a written date, or date and time, by the clock of a zone; null where it is none.
 *
 * A time that a clock change leaves out is taken as long after midnight as it says; of one that comes twice it is the first.
 */
export function localMs(text: string, zone: string): number | null {
  const found = WRITTEN.exec(text.trim());
  if (!found) return null;
  const [year, month, day, hour = 0, minute = 0, second = 0] = found.slice(1).map((p) => Number(p ?? 0));
  if (!year || !month || !day || month > 12 || hour > 24 || minute > 59 || second > 59) return null;
  const local = Date.UTC(year, month - 1, day, hour, minute, second);
  // 31 June and the like.
  if (new Date(Date.UTC(year, month - 1, day)).getUTCDate() !== day) return null;
  const guess = local - offsetAt(local - offsetAt(local, zone), zone);
  const earlier = local - offsetAt(guess - 3_600_000, zone);
  return earlier < guess && earlier + offsetAt(earlier, zone) === local ? earlier : guess;
}

/** The date of a moment by the clock of a zone, as "2026-05-01". */
export function localDay(ms: number, zone: string): string {
  return new Date(ms + offsetAt(ms, zone)).toISOString().slice(0, 10);
}

/** Date and time of a moment by the clock of a zone, as "2026-05-01 08:15", with seconds where there are any. */
export function localTime(ms: number, zone: string): string {
  const text = new Date(ms + offsetAt(ms, zone)).toISOString().slice(0, 19).replace("T", " ");
  return text.endsWith(":00") ? text.slice(0, 16) : text;
}

/** The first moment of the next day by the clock of a zone. */
function dayAfter(ms: number, zone: string): number {
  const next = new Date(ms + offsetAt(ms, zone) + 86_400_000).toISOString().slice(0, 10);
  return localMs(next, zone) ?? ms + 86_400_000;
}

/** The moment at which a zone's clock says the same, so much earlier or later. */
export function shifted(ms: number, by: number, zone: string): number {
  const there = ms + by;
  return there + offsetAt(ms, zone) - offsetAt(there, zone);
}

/** The first and last moment of a day field by the clock of a zone; nothing for an empty field. */
export function dayStart(day: string, zone: string): number | undefined {
  return localMs(day, zone) ?? undefined;
}

export function dayEnd(day: string, zone: string): number | undefined {
  const start = localMs(day, zone);
  return start === null ? undefined : dayAfter(start, zone) - 1;
}
