import type { Schema } from "../../api/client";

export type Lookout = Schema["Lookout"];
export type State = Schema["Watched"]["state"];

/** States in the order in which they want somebody. */
export const STATES: State[] = ["failing", "adrift", "silent", "learning", "quiet", "steady"];

export const STATE_WORDS: Record<State, string> = {
  failing: "cannot be judged: the plan does not fit, or something went wrong",
  adrift: "a finding goes on",
  silent: "nothing has come for longer than usual",
  learning: "little history: not judged yet, or provisionally",
  quiet: "a finding goes on within planned work",
  steady: "as expected",
};

/** What a lookout watches, in words. */
export function scopeWords(scope: Lookout["scope"]): string {
  if (scope.streams)
    return `${scope.streams.length} named ${scope.streams.length === 1 ? "stream" : "streams"}`;
  const attributes = Object.entries(scope.attributes ?? {}).map(([name, value]) => `${name} ${value}`);
  return [scope.metric, ...attributes].filter(Boolean).join(", ");
}

/** How many streams are in which state, those that want somebody first. */
export function stateCounts(states: Record<string, number>): [State, number][] {
  return STATES.flatMap((state) => (states[state] ? [[state, states[state]] as [State, number]] : []));
}

/** Limits that a rehearsal proposes where the plan is one of fixed limits. */
export interface Proposed {
  per_stream: {
    stream: number;
    title: string;
    metric: string;
    unit: string;
    lower: number | null;
    upper: number | null;
    beyond: number;
    reason: string;
  }[];
  widest: { lower?: number; upper?: number };
  plan: string | null;
}

/** What a rehearsal found: the result of its job. */
export interface Rehearsed {
  weeks: number;
  plan: string;
  is_own?: boolean;
  limits?: Proposed | null;
  from: string;
  to: string;
  streams: number;
  samples: number;
  findings: number;
  notices: number;
  held: number;
  silent: number;
  real: number;
  not_real: number;
  left_out: number;
  open: number;
  precision: number | null;
  precision_ci: [number, number] | null;
  recall: number | null;
  recall_ci: [number, number] | null;
  promised_a_week: number | null;
  seen_a_week: number | null;
  per_week: { begin: string; findings: number; notices: number; silent: number }[];
  per_stream: {
    stream: number;
    title: string;
    metric: string;
    findings: number;
    notices: number;
    not_real: number;
    silent: number;
    why: string;
  }[];
}
