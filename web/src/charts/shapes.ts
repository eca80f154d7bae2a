import type { Palette } from "./palette";

/** What charts draw, by shape: they know nothing of where it comes from. Times are milliseconds since 1970. */

export type Range = [number, number];
export type Column = (number | null)[];

export interface DrawnFinding {
  id: number;
  kind: string;
  direction: string;
  start: number;
  end: number;
  verdict: string | null;
}

/** Samples of a span, with what was expected of them; arrays of one length. */
export interface Drawn {
  time: number[];
  value: Column;
  expected?: Column;
  spread?: Column;
  score?: Column;
  /** Of counts: the values at which three levels are reached. */
  edges?: { levels: number[]; upper: Column[]; lower: Column[] };
  /** Places whose score has no side. */
  odd?: number[];
  findings?: DrawnFinding[];
}

export interface Line {
  data: Column;
  stroke: keyof Palette;
  width?: number;
  dash?: number[];
  /** Each value holds until the next one: counts and states, not what moves between samples. */
  isStep?: boolean;
  /** Samples as points where there is room, and alone between gaps, where no line could show them. */
  hasPoints?: boolean;
}
