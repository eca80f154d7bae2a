import { clock, dayOf, monthOf, seconds, yearOf } from "../parts/words";
import { shownZone } from "../parts/zones";

const STEPS = [
  1_000, 5_000, 15_000, 60_000, 300_000, 900_000, 3_600_000, 10_800_000, 21_600_000, 43_200_000, 86_400_000,
  172_800_000, 604_800_000, 1_209_600_000,
];
/** Beyond two weeks ticks stand at the begin of months and years. */
const MONTHS = [1, 2, 3, 6, 12, 24, 60, 120, 240, 600, 1_200];
const MONTH = 2_629_746_000;
const MONDAY = 4 * 86_400_000;

const formats = new Map<string, Intl.DateTimeFormat>();

/** Offset of a zone's local time at a moment, in ms. */
export function offsetAt(ms: number, stated: string): number {
  const zone = shownZone(stated);
  const format =
    formats.get(zone) ?? new Intl.DateTimeFormat("en-GB", { timeZone: zone, timeZoneName: "longOffset" });
  formats.set(zone, format);
  const parts = format.formatToParts(ms);
  const text = parts.find((p) => p.type === "timeZoneName")?.value ?? "GMT";
  // Local mean time, before there were zones, has seconds.
  const found = /([+-])(\d{2}):(\d{2})(?::(\d{2}))?/.exec(text);
  if (!found) return 0;
  const [hours, minutes, seconds] = [found[2], found[3], found[4] ?? 0].map(Number) as [
    number,
    number,
    number,
  ];
  return (found[1] === "-" ? -1 : 1) * (hours * 3_600_000 + minutes * 60_000 + seconds * 1_000);
}

/** Moments at round local times, at most about `most` of them; and the step between them. */
export function ticks(from: number, to: number, zone: string, most: number): { at: number[]; step: number } {
  const step = STEPS.find((s) => (to - from) / s <= most);
  if (step === undefined) return monthTicks(from, to, zone, most);
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

function monthTicks(from: number, to: number, zone: string, most: number): { at: number[]; step: number } {
  const months = MONTHS.find((m) => (to - from) / (m * MONTH) <= most) ?? 1_200;
  const local = new Date(from + offsetAt(from, zone));
  const at: number[] = [];
  for (
    let k = Math.floor((local.getUTCFullYear() * 12 + local.getUTCMonth()) / months) * months;
    ;
    k += months
  ) {
    const begin = Date.UTC(Math.floor(k / 12), k % 12, 1);
    const moment = begin - offsetAt(begin, zone);
    if (moment > to) break;
    if (moment >= from) at.push(moment);
  }
  return { at, step: months * MONTH };
}

export function tickWords(zone: string) {
  return (ms: number, step: number) => {
    if (step >= 12 * MONTH) return yearOf(ms, zone);
    if (step >= MONTH) return monthOf(ms, zone);
    if (step < 60_000) return seconds(ms, zone);
    // The year stands beside the chart; here it would push ticks into one another.
    return step >= 86_400_000 || clock(ms, zone) === "00:00" ? dayOf(ms, zone) : clock(ms, zone);
  };
}
