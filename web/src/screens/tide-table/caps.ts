import type { TideRow } from "../../api/client";

/** A line of the table: the head of a family, or a stream. */
export type Line = { kind: "family"; metric: string; rows: TideRow[] } | { kind: "stream"; row: TideRow };
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
