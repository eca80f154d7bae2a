/** The parts of a plan that the sentence speaks of; the rest goes along unchanged. */
export interface PlanData {
  watchtide: 1;
  prepare: { every: string; combine: string } & Record<string, unknown>;
  baseline: { kind: string; seasons: "auto" | (string | number)[]; settle: string } & Record<string, unknown>;
  flag: { level: Record<string, number>; side: string } & Record<string, unknown>;
  group: { need: number; of: number; merge: string; shortest: number };
  shifts: { of: string; penalty: string | number };
  [part: string]: unknown;
}

/** What a word of the plan's sentence is given. isWrong : whether one of these places was refused. */
export interface OfPlan {
  plan: PlanData;
  isWrong: (...places: string[]) => boolean;
  onChange: (plan: PlanData) => void;
}

export const standardPlan: PlanData = {
  watchtide: 1,
  prepare: { every: "auto", combine: "auto" },
  baseline: { kind: "auto", seasons: "auto", settle: "3d" },
  flag: { level: { "per-week": 0.1 }, side: "both" },
  group: { need: 1, of: 1, merge: "0s", shortest: 1 },
  shifts: { of: "step", penalty: "auto" },
};

export const READINGS: Record<string, { words: string; help: string; start: number }> = {
  sigmas: { words: "robust sigmas", help: "How many spreads away. A size, not a probability.", start: 4 },
  odds: { words: "1 in so many samples", help: "Tail odds by this stream's own scores.", start: 5000 },
  "per-week": {
    words: "false findings a week",
    help: "How many false findings a week you put up with, by this stream's own scores.",
    start: 0.1,
  },
  interval: { words: "interval level", help: "A prediction interval, such as 0.999.", start: 0.999 },
  share: {
    words: "share of samples",
    help: "The share of training samples that reaches the level.",
    start: 0.001,
  },
};

export function levelWords(level: Record<string, number>): string {
  const [[kind, amount] = ["sigmas", 4]] = Object.entries(level);
  if (kind === "sigmas") return `${amount.toFixed(2)} σ`;
  if (kind === "odds") return `1 in ${amount.toLocaleString("en-GB")} samples`;
  if (kind === "per-week") return `${amount} false findings a week`;
  if (kind === "interval") return `the ${amount * 100} % interval`;
  return `${amount * 100} % of samples`;
}
