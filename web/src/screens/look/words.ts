import type { Schema } from "../../api/client";
import { dayOf, figure, plural, weekdayOf } from "../../parts/words";

export type Look = Schema["PeriodLook"];
export type By = Look["by"];

/** "Sunday 4 Oct", or "the week from Mon 28 Sep". */
export function periodWords(start: number, by: By, zone: string): string {
  const day = `${weekdayOf(start, zone)} ${dayOf(start, zone)}`;
  return by === "week" ? `week from ${day}` : day;
}

/** How a period compares, in a sentence; empty where there is nothing to compare with. */
export function verdictWords(look: Look): string {
  if (look.value === null) return "Nothing was seen.";
  if (look.usual === null) return "There is none before it to compare with.";
  const percent = look.usual ? Math.round((100 * (look.value - look.usual)) / Math.abs(look.usual)) : null;
  const apart =
    percent === null || percent === 0
      ? "as usual"
      : `${Math.abs(percent)} % ${percent > 0 ? "above" : "below"} what is usual`;
  if (look.lower === null || look.upper === null)
    return `It is ${apart}; there are too few before it for limits.`;
  if (!look.outside) return `It is ${apart}, within its limits.`;
  return `It is ${apart}, ${look.outside} its limits: ${look.is_bad ? "the bad side" : "the good side"}.`;
}

/** With what it is compared. */
export function besideWords(look: Look): string {
  const counted = look.beside.filter((b) => !b.left_out).length;
  const out = look.beside.length - counted;
  const name = look.by === "day" ? "the same weekday" : "the week";
  return `by ${name} of ${plural(counted, "week")} before${out ? `, ${out} left out as far from the rest` : ""}`;
}

export function limitsWords(look: Look): string {
  return look.lower === null ? "none yet" : `${figure(look.lower)} to ${figure(look.upper)}`;
}
