import { shownZone } from "./zones";

/** Figures and times in words. Times are milliseconds since 1970; zones are named wherever they show. */

const SPACE = "\u2009";

export function figure(value: number | null | undefined, digits?: number): string {
  if (value === null || value === undefined || Number.isNaN(value)) return "–";
  const size = Math.abs(value);
  // Small figures, a share of 0.0023 for one, keep two digits that say something.
  if (digits === undefined && size > 0 && size < 0.095)
    return `${Number(value.toPrecision(2))}`.replace("-", "−");
  const places = digits ?? (size >= 100 || Number.isInteger(value) ? 0 : size >= 10 ? 1 : 2);
  return withPlaces(places).format(value).replace("-", "−");
}

const figures = new Map<number, Intl.NumberFormat>();

function withPlaces(places: number): Intl.NumberFormat {
  let found = figures.get(places);
  if (!found) {
    found = new Intl.NumberFormat("en-GB", { minimumFractionDigits: places, maximumFractionDigits: places });
    figures.set(places, found);
  }
  return found;
}

/** Decimal places that show a hundredth of how far the values are spread: 0.0213 and 0.0208 are not both 0.02. */
export function digitsFor(values: (number | null)[]): number | undefined {
  const seen = values.filter((v): v is number => v !== null).sort((a, b) => a - b);
  const at = (share: number) => seen[Math.floor(share * (seen.length - 1))] ?? 0;
  // A few odd values say nothing about the rest.
  const spread = at(0.95) - at(0.05);
  if (!seen.length || !(spread > 0)) return undefined;
  if (seen.every(Number.isInteger)) return 0;
  return Math.min(8, Math.max(0, Math.ceil(2 - Math.log10(spread))));
}

export function ratio(value: number | null | undefined): string {
  return value === null || value === undefined ? "–" : value.toFixed(2);
}

const formats = new Map<string, Intl.DateTimeFormat>();

function format(stated: string, options: Intl.DateTimeFormatOptions): Intl.DateTimeFormat {
  const zone = shownZone(stated);
  const key = zone + JSON.stringify(options);
  let found = formats.get(key);
  if (!found) {
    found = new Intl.DateTimeFormat("en-GB", { timeZone: zone, ...options });
    formats.set(key, found);
  }
  return found;
}

/** A year and a little: what lies further from now is named with its year. */
const FAR = 366 * 86_400_000;

function withYear(ms: number): Intl.DateTimeFormatOptions {
  return Math.abs(ms - Date.now()) > FAR ? { year: "numeric" } : {};
}

/** Day and month alone, where the year is shown elsewhere. */
export function dayOf(ms: number, zone: string): string {
  return format(zone, { day: "numeric", month: "short" }).format(ms);
}

export function day(ms: number, zone: string): string {
  return format(zone, { day: "numeric", month: "short", ...withYear(ms) }).format(ms);
}

export function dayTime(ms: number, zone: string): string {
  return format(zone, {
    weekday: "short",
    day: "numeric",
    month: "short",
    ...withYear(ms),
    hour: "2-digit",
    minute: "2-digit",
  })
    .format(ms)
    .replaceAll(",", "");
}

export function weekdayOf(ms: number, zone: string): string {
  return format(zone, { weekday: "short" }).format(ms);
}

export function monthOf(ms: number, zone: string): string {
  return format(zone, { month: "short", year: "numeric" }).format(ms);
}

export function yearOf(ms: number, zone: string): string {
  return format(zone, { year: "numeric" }).format(ms);
}

export function seconds(ms: number, zone: string): string {
  return format(zone, { hour: "2-digit", minute: "2-digit", second: "2-digit" }).format(ms);
}

export function clock(ms: number, zone: string): string {
  return format(zone, { hour: "2-digit", minute: "2-digit" }).format(ms);
}

export function utc(ms: number): string {
  return `${new Date(ms).toISOString().slice(0, 16).replace("T", " ")} UTC`;
}

/** The zone's short name at a time, such as IST. */
export function zoneName(ms: number, zone: string): string {
  return (
    format(zone, { timeZoneName: "short" })
      .formatToParts(ms)
      .find((p) => p.type === "timeZoneName")?.value ?? zone
  );
}

/** The zone that is shown and its short name at a time, so that no time stands without one. */
export function zoneWords(ms: number, zone: string): string {
  return `${shownZone(zone)} (${zoneName(ms, zone)})`;
}

export function spanWords(from: number, to: number, zone: string): string {
  const year = yearOf(to, zone);
  const first = yearOf(from, zone);
  return `${dayOf(from, zone)}${first === year ? "" : ` ${first}`} – ${dayOf(to, zone)} ${year}`;
}

export function duration(seconds: number | null | undefined): string {
  if (seconds === null || seconds === undefined) return "–";
  if (seconds < 90) return `${Math.round(seconds)}${SPACE}s`;
  if (seconds < 5400) return `${Math.round(seconds / 60)}${SPACE}min`;
  if (seconds < 172_800) return `${figure(seconds / 3600, seconds < 36_000 ? 1 : 0)}${SPACE}h`;
  return `${figure(seconds / 86_400, 1)}${SPACE}d`;
}

export function plural(n: number, one: string, many = `${one}s`): string {
  return `${figure(n)} ${n === 1 ? one : many}`;
}

/** Hours of the mean Gregorian year. */
const YEAR_HOURS = 8_765.82;

export function hours(h: number): string {
  const years = h / YEAR_HOURS;
  if (years > 0.99 && Math.abs(years - Math.round(years)) < 1e-6) return `${Math.round(years)}${SPACE}y`;
  if (h % 24 === 0) return `${h / 24}${SPACE}d`;
  return h < 1 ? `${Math.round(h * 60)}${SPACE}min` : `${Number(h.toFixed(2))}${SPACE}h`;
}

/** A season as a plan writes it, readable: one that is no whole minutes stands there in seconds. */
export function seasonWords(stated: string | number): string {
  const seconds = /^([\d.]+)s$/.exec(String(stated));
  return seconds && Number(seconds[1]) >= 3600 ? hours(Number(seconds[1]) / 3600) : String(stated);
}

/** Words as the beginning of a sentence. */
export function begun(words: string): string {
  return words.charAt(0).toUpperCase() + words.slice(1);
}
