import type { Finding, Schema } from "../../api/client";
import type { By, Look } from "../look/words";

export type Board = Schema["Board"];
export type Kind =
  | "stream"
  | "several"
  | "strongest"
  | "ribbons"
  | "forecast"
  | "scorecard"
  | "incidents"
  | "look"
  | "text";

/** One pane: what it shows, where it stands on a grid twelve wide, and its settings. */
export interface Pane {
  kind: Kind;
  title: string;
  x: number;
  y: number;
  w: number;
  h: number;
  stream?: number;
  streams?: number[];
  hours?: number;
  metric?: string;
  most?: number;
  text?: string;
  by?: By;
  n?: number;
}

export const KINDS: [Kind, string, string][] = [
  ["stream", "a stream", "with its band and what was found"],
  ["several", "several streams", "one below the other"],
  ["ribbons", "ribbons of a family", "every stream of a metric"],
  ["strongest", "the strongest findings", "open ones, of all streams"],
  ["incidents", "open incidents", "and those proposed"],
  ["forecast", "a forecast", "what is expected next"],
  ["scorecard", "precision so far", "counted by verdicts"],
  ["look", "a day or week", "beside the same ones before it"],
  ["text", "a text", "whom to call, what to do"],
];

/** A stretch of a stream as a pane draws it; the band is there where a scan stands for it. */
export interface Line {
  stream: number;
  metric: string;
  title: string;
  unit: string;
  zone: string;
  state: string | null;
  why: string;
  time: number[];
  value: (number | null)[];
  expected?: (number | null)[];
  lower?: (number | null)[];
  upper?: (number | null)[];
  found?: number[];
}

export interface Ribbon {
  id: number;
  title: string;
  unit: string;
  zone: string;
  last_value: number | null;
  state: string;
  open: number;
  ribbon: string;
  ribbon_from: number | null;
  ribbon_to: number | null;
}

/** What a pane shows, by its kind. */
export type Shown = { at: number } & (
  | ({ kind: "stream" } & Line)
  | { kind: "several"; lines: Line[] }
  | { kind: "strongest"; findings: Finding[]; open: number }
  | { kind: "ribbons"; rows: Ribbon[]; span_from: number | null; span_to: number | null }
  | { kind: "forecast"; ahead: Schema["Forecast"]; line: Line }
  | {
      kind: "scorecard";
      precision: number | null;
      precision_ci: [number, number] | null;
      precision_counts: [number, number];
      judged: number;
      total: number;
    }
  | {
      kind: "incidents";
      count: number;
      rows: {
        id: number | null;
        finding: number | null;
        title: string;
        state: string;
        start: number;
        score: number | null;
      }[];
    }
  | ({ kind: "look" } & Look)
  | { kind: "text"; text: string }
);

const WIDE = 12;

const meet = (a: Pane, b: Pane) => a.x < b.x + b.w && b.x < a.x + a.w && a.y < b.y + b.h && b.y < a.y + a.h;

/** Panes of which none covers another: the one that was moved stays, others go down as far as they must. */
export function settled(panes: Pane[], moved: number): Pane[] {
  const out = panes.map((p) => ({ ...p, w: Math.min(p.w, WIDE - p.x) }));
  const placed: Pane[] = [];
  const order = out
    .map((_, i) => i)
    .sort((a, b) => Number(b === moved) - Number(a === moved) || (out[a]?.y ?? 0) - (out[b]?.y ?? 0));
  for (const i of order) {
    const pane = out[i];
    if (!pane) continue;
    while (placed.some((other) => meet(pane, other))) pane.y += 1;
    placed.push(pane);
  }
  return out;
}

/** A pane moved or made larger by so many fields of the grid, within it. */
export function shifted(pane: Pane, by: { x?: number; y?: number; w?: number; h?: number }): Pane {
  const w = Math.min(Math.max(pane.w + (by.w ?? 0), 2), WIDE);
  const x = Math.min(Math.max(pane.x + (by.x ?? 0), 0), WIDE - w);
  return {
    ...pane,
    x,
    w,
    y: Math.max(pane.y + (by.y ?? 0), 0),
    h: Math.min(Math.max(pane.h + (by.h ?? 0), 2), 40),
  };
}

/** Where a new pane goes: below all others. */
export function below(panes: Pane[]): number {
  return Math.max(0, ...panes.map((p) => p.y + p.h));
}
