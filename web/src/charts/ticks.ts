import { clock, day } from "../parts/words";

const STEPS = [
  60_000, 300_000, 900_000, 3_600_000, 10_800_000, 21_600_000, 43_200_000, 86_400_000, 172_800_000,
  604_800_000, 1_209_600_000, 2_419_200_000, 7_257_600_000,
];
const MONDAY = 4 * 86_400_000;

const formats = new Map<string, Intl.DateTimeFormat>();

/** Offset of a zone's local time at a moment, in ms. */
export function offsetAt(ms: number, zone: string): number {
  const format =
    formats.get(zone) ?? new Intl.DateTimeFormat("en-GB", { timeZone: zone, timeZoneName: "longOffset" });
  formats.set(zone, format);
  const parts = format.formatToParts(ms);
  const text = parts.find((p) => p.type === "timeZoneName")?.value ?? "GMT";
  const found = /([+-])(\d{2}):(\d{2})/.exec(text);
  if (!found) return 0;
  return (found[1] === "-" ? -1 : 1) * (Number(found[2]) * 3_600_000 + Number(found[3]) * 60_000);
}

/** Moments at round local times, at most about `most` of them; and the step between them. */
export function ticks(from: number, to: number, zone: string, most: number): { at: number[]; step: number } {
  const step = STEPS.find((s) => (to - from) / s <= most) ?? 31_536_000_000;
  const shift = offsetAt(from, zone);
  const at: number[] = [];
  for (
    let local = Math.ceil((from + shift - MONDAY) / step) * step + MONDAY;
    local - shift <= to + 7_200_000;
    local += step
  ) {
    // The offset that holds there: ticks stay at local midnight through a clock change.
    const moment = local - offsetAt(local - shift, zone);
    if (moment >= from && moment <= to) at.push(moment);
  }
  return { at, step };
}

export function tickWords(zone: string) {
  return (ms: number, step: number) =>
    step >= 86_400_000 ? day(ms, zone) : clock(ms, zone) === "00:00" ? day(ms, zone) : clock(ms, zone);
}
