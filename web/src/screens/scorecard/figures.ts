import { api, get, type Schema } from "../../api/client";

/** The scorecard's JSON, as contracts name it. */
export interface Figures {
  events: Events;
  points: {
    tp: number;
    fp: number;
    fn: number;
    tn: number;
    precision: number | null;
    recall: number | null;
    specificity: number | null;
    accuracy: number | null;
    f1: number | null;
    specificity_ci: Pair;
    precision_ci: Pair;
    recall_ci: Pair;
    accuracy_ci?: Pair;
  } | null;
  ranges: {
    precision: number | null;
    recall: number | null;
    f1: number | null;
    precision_ci?: Pair;
    recall_ci?: Pair;
  } | null;
  flagged_share: number | null;
  delay: { median_s: number | null; p90_s: number | null; n: number; median_ci?: Pair };
  false_per_week: {
    per_stream: number | null;
    total: number | null;
    false_findings: number;
    stream_weeks: number;
    per_stream_ci: Pair;
  };
  sampled: Sampled | null;
  by_kind: {
    findings: Record<string, { tp: number; fp: number; precision: number | null }>;
    labels: Record<
      string,
      { tp: number; fn: number; recall: number | null; recall_ci: Pair; delay: { median_s: number | null } }
    >;
  };
  excluded: { unjudged: number; unsure: number; unscored: number; incidents_not_reviewed: number };
  notes: Record<string, string>;
}

export interface Events {
  tp_findings: number;
  fp_findings: number;
  tp_labels: number;
  fn_labels: number;
  precision: number | null;
  precision_ci: Pair;
  precision_ci_clustered: Pair;
  precision_bounds: Pair;
  recall: number | null;
  recall_ci: Pair;
  recall_ci_clustered: Pair;
  recall_of: string;
  f1: number | null;
  f1_ci: Pair;
  incident_precision: number | null;
  incident_precision_ci?: Pair;
  fragmentation: number | null;
}

/** Estimates from findings and spans that were drawn by chance. */
export interface Sampled {
  precision: number | null;
  precision_ci: Pair;
  recall: number | null;
  recall_ci: Pair;
  n: number;
  strata: Record<string, unknown>;
}

export type Pair = [number, number] | null;
export type Card = Omit<
  Schema["Scorecard"],
  "scan" | "replay" | "logbook_version" | "data_digest" | "computed_at"
>;
export type Cut = Schema["Cut"];
export type BestLevel = Schema["BestLevel"];
export type Comparison = Schema["Comparison"];

export type Missed = Schema["Missed"];
export type False = Schema["False"];

/** Of two intervals, the wider one: the one that does not promise too much. */
export function wider(a: Pair, b: Pair): Pair {
  if (!a || !b) return a ?? b;
  return b[1] - b[0] > a[1] - a[0] ? b : a;
}

/** Which part of a scan is counted, as the address says it. */
export interface Part {
  family?: string;
  streams?: string;
  from?: number;
  to?: number;
}

export function partOf(params: URLSearchParams): Part {
  const part: Part = {};
  const family = params.get("family");
  const streams = params.get("streams");
  if (family) part.family = family;
  if (streams) part.streams = streams;
  for (const end of ["from", "to"] as const) {
    const ms = Number(params.get(end));
    if (ms) part[end] = ms;
  }
  return part;
}

/** A scan's scorecard, or the job that counts it. */
export function fetchCard(scan: number, part: Part) {
  return get(
    api.GET("/api/v1/scans/{id}/scorecard", { params: { path: { id: scan }, query: part } }),
  ) as Promise<Schema["Scorecard"] | Schema["Counting"]>;
}

export function isCounting(answer: Schema["Scorecard"] | Schema["Counting"]): answer is Schema["Counting"] {
  return "counting_job" in answer;
}
