import type { ChartWindow, Finding, Scan, Schema } from "../../api/client";
import type { Levels } from "../../charts/drawing";
import type { Range, TimePane } from "../../charts/TimePane";
import type { BenchAddress } from "./address";

/** One stream and what stands for it. */
export type StreamFacts = Schema["StreamScan"];

/** A longer period that samples are put together by. */
export type By = "hour" | "day" | "week" | "month";

/** Which earlier stretch lies under the line. */
export type Under = "day" | "week" | "season";

/** How the values are drawn. */
export interface Look {
  by: By | "";
  isLog: boolean;
  isStep: boolean;
  under: Under | "";
}

/** What is forecast, and past what. */
export interface Ahead {
  days: string;
  interval: string;
  skip: number;
  side: "none" | "above" | "below";
  limit: number | null;
  /** With the streams of its family beside it. */
  isFamily: boolean;
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

/** Where the pointer is: the place of the sample and its distance from the left. */
export interface Cursor {
  index: number;
  left: number;
}

/** Whether the samples on show are those that were requested. */
export type Freshness = "current" | "refreshing" | "offline" | "failed";

export interface StackProps {
  stream: StreamFacts;
  view: ChartWindow;
  freshness: Freshness;
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
  /** Choose the finding at a moment; false where there is none. */
  pick: (moment: number, tolerance: number) => boolean;
  reset: () => void;
  scanId: number | null;
  /** Lanes under the logbook: the replay of this plan and the pinned scans, with their letters. */
  lanes: (Pinned & { name: string })[];
  /** Plan, version and scan, for pictures that are saved. */
  source: string;
  /** Odds of a score, where the stream's tails tell them. */
  odds: (score: number | null) => number | null;
  plan: string;
  address: BenchAddress;
  change: (changes: Partial<BenchAddress>) => void;
}
