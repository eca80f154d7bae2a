import type { Schema } from "../../api/client";

export type Family = Schema["TideFamily"];
/** A line of the table: the head of a family, or the stream at a place in the order of all. */
export type Line = { kind: "family"; family: Family } | { kind: "stream"; at: number; family: Family };
export const SORTS = ["strongest", "newest", "open", "name"] as const;
/** In which order, and by which words and rule, streams are shown. */
export interface Way {
  sort: (typeof SORTS)[number];
  filter: string;
  fleet?: number;
}
export type Span = [number, number];
export type Cap = "most" | "family" | "stream";
export const CAPS: Record<Cap, number> = { most: 8, family: 3, stream: 1 };
/** What a cap may be set to. */
export const CHOICES: Record<Cap, number[]> = {
  most: [4, 8, 12, 20],
  family: [1, 2, 3, 5, 20],
  stream: [1, 2, 3, 5, 20],
};

/** Shares of false ones that the fleet's rule may hold, by day. */
export const FLEET = [0.05, 0.1, 0.2];

/** Columns beside name and ribbon, in words. */
export const COLUMNS: Record<string, string> = {
  value: "last value",
  state: "state",
  open: "open",
  strongest: "strongest, σ",
  newest: "newest finding",
  owner: "owner",
  cadence: "cadence",
};
