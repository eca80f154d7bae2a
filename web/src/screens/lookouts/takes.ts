import type { Schema } from "../../api/client";
import { plural } from "../../parts/words";

export type Route = Schema["Route"];
export type Takes = NonNullable<Route["takes"]>;
export type Hours = NonNullable<Takes["hours"]>[number];

export const DAYS = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];
export const SIDES: Record<NonNullable<Takes["sides"]>, string> = {
  both: "either side",
  bad: "the bad side only",
  above: "above only",
  below: "below only",
};

/** Days of the week as one writes them: a run of three or more by its ends. */
export function daysInWords(days: readonly number[]): string {
  const sorted = [...new Set(days)].sort((a, b) => a - b);
  if (sorted.length === 7) return "every day";
  const runs: number[][] = [];
  for (const day of sorted) {
    const last = runs[runs.length - 1];
    if (last && last[last.length - 1] === day - 1) last.push(day);
    else runs.push([day]);
  }
  const name = (day: number | undefined) => DAYS[(day ?? 1) - 1] ?? "";
  return runs
    .map((run) =>
      run.length > 2 ? `${name(run[0])} to ${name(run[run.length - 1])}` : run.map(name).join(", "),
    )
    .join(", ");
}

/** What a route takes, in words; "everything" where nothing is left out. */
export function takesInWords(route: Pick<Route, "takes" | "most_an_hour">): string {
  const takes = route.takes ?? {};
  const attributes = Object.entries(takes.attributes ?? {}).map(([name, value]) => `${name} ${value}`);
  const what = [...(takes.metrics ?? []), ...attributes].join(", ");
  const words = [
    what,
    takes.sides && takes.sides !== "both" ? SIDES[takes.sides] : "",
    takes.least ? `from ${takes.least} sigmas on` : "",
    ...(takes.hours ?? []).map((h) => `${daysInWords(h.days)} ${h.opens} to ${h.closes}`),
    takes.hours?.length ? (takes.zone ?? "UTC") : "",
    takes.calendar ? `while ${takes.who ? `${takes.who} is in` : "an event is on in"} ${takes.calendar}` : "",
    route.most_an_hour ? `at most ${plural(route.most_an_hour, "notice")} an hour, the rest joined` : "",
  ].filter(Boolean);
  return words.length ? words.join("; ") : "everything, at any hour";
}

/** "place Northquay, fare adult" as attributes; words without a value are left out. */
export function attributesOf(text: string): Record<string, string> {
  const pairs = text
    .split(",")
    .map((part) => part.trim().split(/[\s=]+/))
    .filter((words) => words.length > 1);
  return Object.fromEntries(pairs.map(([name, ...value]) => [name, value.join(" ")]));
}
