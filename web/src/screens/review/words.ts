import type { Finding, Schema } from "../../api/client";
import { dayTime, duration, figure, plural, ratio, zoneName } from "../../parts/words";

export type Round = Schema["Round"];
export type Item = Schema["Item"];

export const KIND_WORDS: Record<Round["kind"], string> = {
  strongest: "the strongest open findings",
  sample: "a fair sample of findings",
  unflagged: "spans that nobody flagged",
};

/** What was found, in one sentence. */
export function findingWords(f: Finding): string {
  const zone = zoneName(f.start, f.zone);
  if (f.kind === "shift") {
    return `${dayTime(f.start, f.zone)} ${zone}: a step of ${(f.size ?? 0) > 0 ? "+" : ""}${figure(f.size)} ${f.unit}, confidence ${ratio(f.confidence)}.`;
  }
  return `${dayTime(f.start, f.zone)} – ${dayTime(f.end, f.zone)} ${zone}, ${plural(f.points, "sample")} ${f.direction || "without a side"}, up to ${figure(f.score, 1)} σ: ${figure(f.peak_value)} ${f.unit} where ${figure(f.expected)} was expected.`;
}

export function itemWords(item: Item): string {
  if (item.finding) return findingWords(item.finding);
  return `${dayTime(item.start, item.zone)} – ${dayTime(item.end, item.zone)} ${zoneName(item.start, item.zone)}: nobody flagged anything in these ${duration((item.end - item.start) / 1000)}. Is anything there?`;
}

/** How it came to be judged, and how likely that was. */
export function drawnWords(item: Item): string {
  if (item.is_second) return "you are the second to look; the first verdict is not shown";
  if (item.probability === null) return "picked by strength";
  return `drawn by chance, p = ${item.probability.toFixed(2)} (${item.stratum})`;
}

/** What the verdicts so far say, and how sure that is now and will be. */
export function estimateWords(round: Round): string {
  const [hits, n] = round.counts;
  if (!n || round.share === null) return "No verdict in this round yet.";
  const sure =
    round.half === null
      ? ""
      : ` ± ${ratio(round.half)} now${round.left && round.half_at_end !== null ? `, about ± ${ratio(round.half_at_end)} when done` : ""}`;
  const weighted = round.kind === "strongest" ? "" : ", weighted by the chance of each";
  return round.kind === "unflagged"
    ? `Of ${n} judged spans ${hits} held an incident that nobody flagged: share ${ratio(round.share)}${sure}${weighted}.`
    : `Of ${n} judged findings ${hits} were real: precision ${ratio(round.share)}${sure}${weighted}.`;
}

/** On how many two people agree, and what chance does not make of it. */
export function agreedWords({ n, same, kappa }: Round["agreement"]): string {
  return `${same} of ${n} agree${kappa === null ? "" : ` (κ ${ratio(kappa)})`}`;
}

export function agreementWords(round: Round): string {
  if (!round.second_looks) return "";
  const twice = "A second person looks at every tenth";
  return round.agreement.n
    ? `${twice}; so far ${agreedWords(round.agreement)}.`
    : `${twice}; nobody has yet.`;
}
