import type { ChartWindow, Finding, Scan, Schema } from "../../api/client";
import type { Levels } from "../../charts/drawing";
import type { Range, TimePane } from "../../charts/TimePane";

/** One stream and what stands for it. */
export type StreamFacts = Schema["StreamScan"];

/** What is forecast, and past what. */
export interface Ahead {
  days: string;
  interval: string;
  skip: number;
  side: "none" | "above" | "below";
  limit: number | null;
}

/** A scan laid beside the one on show. */
export interface Pinned {
  scan: Scan;
  window?: ChartWindow;
}

/** Streams laid beside this one, and how. */
export interface OthersChoice {
  ids: number[];
  isCommon: boolean;
  isOver: boolean;
}

/** What the panes of a stack share. */
export type PaneProps = Pick<
  Parameters<typeof TimePane>[0],
  "time" | "range" | "zone" | "tickWords" | "onRange" | "onSpan" | "onCursor" | "onPick" | "onReset"
>;

export interface StackProps {
  stream: StreamFacts;
  view: ChartWindow;
  overview?: ChartWindow;
  whole: Range;
  range: Range;
  /** A span was drawn with Shift, to write about. */
  onSpan: (range: Range) => void;
  setRange: (range: Range) => void;
  levels: Levels;
  level: number | null;
  setLevel: (level: number) => void;
  chosen: number | null;
  choose: (finding: Finding) => void;
  pick: (moment: number, tolerance: number) => void;
  reset: () => void;
  hasParts: boolean;
  setParts: (open: boolean) => void;
  scanId: number | null;
  /** Lanes under the logbook: the replay of this plan and the pinned scans, with their letters. */
  lanes: (Pinned & { name: string })[];
  others: OthersChoice;
  setOthers: (choice: OthersChoice) => void;
  /** Plan, version and scan, for pictures that are saved. */
  source: string;
  /** Odds of a score, where the stream's tails tell them. */
  odds: (score: number | null) => number | null;
  open: { fold: boolean; forms: boolean };
  ahead: Ahead | null;
  setAhead: (ahead: Ahead | null) => void;
  plan: string;
  setOpen: (part: "fold" | "forms", open: boolean) => void;
}

/** Room on the right of the panes. */
export const GUTTER = 108;
