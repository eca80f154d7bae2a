import type { Schema } from "../../api/client";

export type Rule = Schema["IdentityRule"];
export type Effect = Schema["IdentityEffect"];

export const NEW_RULE: Rule = { metric: "*", keep: [], drop: [], rename: [], join: "auto", note: "" };

/** How samples of several senders of one stream are combined, in words. */
export const JOINS: { value: Rule["join"]; label: string }[] = [
  { value: "auto", label: "sum what adds up, average the rest" },
  { value: "sum", label: "sum" },
  { value: "mean", label: "mean" },
  { value: "last", label: "the newest" },
  { value: "max", label: "the largest" },
];

/** What a rule says, as a sentence. */
export function sentence(rule: Rule): string {
  const parts = [
    rule.drop.length > 0 ? `drop ${listed(rule.drop)}` : "",
    rule.keep.length > 0 ? `keep ${listed(rule.keep)}` : "",
    rule.rename.length > 0 ? `rename ${listed(rule.rename.map(([from, to]) => `${from} to ${to}`))}` : "",
    rule.join !== "auto" ? `combine senders by ${JOINS.find((j) => j.value === rule.join)?.label}` : "",
  ].filter(Boolean);
  return parts.length > 0 ? parts.join("; ") : "says nothing yet";
}

function listed(names: string[]): string {
  return names.length > 4 ? `${names.slice(0, 3).join(", ")} and ${names.length - 3} more` : names.join(", ");
}

/** Renames as one writes them, `pod=place`, and back; what is no pair is left out. */
export const renamesToText = (pairs: string[][]): string[] => pairs.map(([from, to]) => `${from}=${to}`);

export function renamesOf(texts: string[]): string[][] {
  return texts
    .map((text) => text.split("=").map((part) => part.trim()))
    .filter((pair) => pair.length === 2 && pair.every(Boolean));
}

/** A copy of a list with one item moved by a place. */
export function moved<T>(list: T[], at: number, by: -1 | 1): T[] {
  const to = at + by;
  if (to < 0 || to >= list.length) return list;
  const out = [...list];
  const [item] = out.splice(at, 1);
  out.splice(to, 0, item as T);
  return out;
}
