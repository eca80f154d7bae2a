import { LOCAL } from "./words";

/** The local day of a moment, as a date field holds it. */
export const dayOf = (ms: number): string => new Date(ms).toLocaleDateString("en-CA", { timeZone: LOCAL });

/** The first or last millisecond of a date field's local day; nothing for an empty field. */
export function msOf(text: string, end: boolean): number | undefined {
  if (!text) return undefined;
  const ms = new Date(`${text}T${end ? "23:59:59.999" : "00:00"}`).getTime();
  return Number.isNaN(ms) ? undefined : ms;
}
