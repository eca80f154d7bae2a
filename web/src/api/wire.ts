/** Times on the wire are ISO 8601 in UTC, those of the page milliseconds since 1970: one is turned into the other here. */

import { FREE, MOMENT_PARAMETERS, MOMENTS, TIMES } from "./names";

/** Any of the fields that hold a time: what a row of times has under each of its names. */
const A_MOMENT = "at";
const WHOLE = "2026-01-01T00:00:00.000".length;

/** Milliseconds, with the microseconds that a file may have behind the point. */
function milliseconds(text: string): number {
  const at = Date.parse(text);
  const digits = text.length > WHOLE ? text.slice(WHOLE).replace("Z", "") : "";
  return digits ? at + Number(`0.${digits}`) : at;
}

/** Answers as the page has them; what is given is changed in place. */
export function fromWire(value: unknown, name = ""): unknown {
  if (typeof value === "string") return MOMENTS.has(name) ? milliseconds(value) : value;
  if (value === null || typeof value !== "object" || FREE.has(name)) return value;
  if (Array.isArray(value)) {
    for (let i = 0; i < value.length; i++) value[i] = fromWire(value[i], name);
    return value;
  }
  const row = value as Record<string, unknown>;
  for (const key in row) row[key] = fromWire(row[key], TIMES.has(name) ? A_MOMENT : key);
  return row;
}

export function iso(ms: number): string {
  const whole = Math.floor(ms);
  const micro = Math.round((ms - whole) * 1_000);
  const text = new Date(whole + Math.floor(micro / 1_000)).toISOString();
  return micro % 1_000 ? text.replace("Z", `${String(micro % 1_000).padStart(3, "0")}Z`) : text;
}

/** What the page sends, times in ISO 8601; what is given stays as it is. */
export function toWire(value: unknown, name = ""): unknown {
  if (typeof value === "number") return MOMENTS.has(name) || MOMENT_PARAMETERS.has(name) ? iso(value) : value;
  if (value === null || typeof value !== "object" || FREE.has(name)) return value;
  if (Array.isArray(value)) return value.map((part) => toWire(part, name));
  if (value instanceof Blob || value instanceof FormData) return value;
  return Object.fromEntries(Object.entries(value).map(([key, part]) => [key, toWire(part, key)]));
}
