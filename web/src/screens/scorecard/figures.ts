/** The scorecard's JSON, as contracts name it. */
export interface Figures {
  span: { from: number; to: number };
  events: {
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
    fragmentation: number | null;
  };
  points: {
    tp: number;
    fp: number;
    fn: number;
    tn: number;
    precision: number | null;
    recall: number | null;
    specificity: number | null;
    specificity_ci: Pair;
    precision_ci: Pair;
    recall_ci: Pair;
  } | null;
  ranges: { precision: number | null; recall: number | null; f1: number | null } | null;
  flagged_share: number | null;
  delay: { median_s: number | null; p90_s: number | null; n: number };
  false_per_week: {
    per_stream: number | null;
    total: number | null;
    false_findings: number;
    stream_weeks: number;
    per_stream_ci: Pair;
  };
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

export type Pair = [number, number] | null;

export interface Missed {
  stream: number | null;
  title: string;
  streams: number;
  start_ns: number;
  end_ns: number;
  kind: string;
  cause: string;
}

export interface False {
  stream: number;
  title: string;
  start_ns: number;
  end_ns: number;
  kind: string;
  direction: string;
  score: number | null;
}

/** Of two intervals, the wider one: the one that does not promise too much. */
export function wider(a: Pair, b: Pair): Pair {
  if (!a || !b) return a ?? b;
  return b[1] - b[0] > a[1] - a[0] ? b : a;
}
