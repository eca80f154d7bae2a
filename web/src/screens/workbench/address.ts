import type { Range } from "../../charts/TimePane";
import { withNames } from "../../parts/address";
import type { Ahead, By, Look, OthersChoice, Under } from "./types";

/** What the address of the workbench says: with it, the screen is as it was. */
export interface BenchAddress {
  scan: number | null;
  range: Range | null;
  level: number | null;
  finding: number | null;
  side: "findings" | "plan" | null;
  hasParts: boolean;
  hasFold: boolean;
  hasForms: boolean;
  hasLoss: boolean;
  hasUnits: boolean;
  /** Scans pinned beside the one on show. */
  beside: number[];
  others: OthersChoice;
  look: Look;
  ahead: Ahead | null;
}

const MOST_BESIDE = 3;
const MOST_OTHERS = 4;

function numberOf(params: URLSearchParams, name: string): number | null {
  const text = params.get(name);
  const value = text ? Number(text) : Number.NaN;
  return Number.isFinite(value) ? value : null;
}

function numbersOf(params: URLSearchParams, name: string, most: number): number[] {
  return (params.get(name) ?? "").split(",").map(Number).filter(Boolean).slice(0, most);
}

function oneOf<T extends string>(params: URLSearchParams, name: string, choices: readonly T[]): T | null {
  const text = params.get(name);
  return choices.find((choice) => choice === text) ?? null;
}

function rangeOf(params: URLSearchParams): Range | null {
  const [from, to] = [numberOf(params, "from"), numberOf(params, "to")];
  return from !== null && to !== null && from < to ? [from, to] : null;
}

function aheadOf(params: URLSearchParams): Ahead | null {
  const days = params.get("ahead");
  if (!days) return null;
  const [side, limit] = (params.get("limit") ?? "none").split(" ");
  return {
    days,
    interval: params.get("sure") ?? "0.9",
    skip: numberOf(params, "skip") ?? 0,
    side: side === "above" || side === "below" ? side : "none",
    limit: limit ? Number(limit) : null,
    isFamily: params.get("family") === "1",
  };
}

export function readAddress(params: URLSearchParams): BenchAddress {
  const isOn = (name: string) => params.get(name) === "1";
  return {
    scan: numberOf(params, "scan"),
    range: rangeOf(params),
    level: numberOf(params, "level"),
    finding: numberOf(params, "finding"),
    side: oneOf(params, "side", ["findings", "plan"] as const),
    hasParts: isOn("parts"),
    hasFold: isOn("fold"),
    hasForms: isOn("forms"),
    hasLoss: isOn("loss"),
    hasUnits: isOn("units"),
    beside: numbersOf(params, "beside", MOST_BESIDE),
    others: {
      ids: numbersOf(params, "with", MOST_OTHERS),
      isCommon: params.get("scale") === "common",
      isOver: params.get("lay") === "over",
    },
    look: {
      by: oneOf(params, "by", ["hour", "day", "week", "month"] satisfies By[]) ?? "",
      isLog: params.get("axis") === "log",
      isStep: params.get("line") === "steps",
      under: oneOf(params, "under", ["day", "week", "season"] satisfies Under[]) ?? "",
    },
    ahead: aheadOf(params),
  };
}

type Texts = Parameters<typeof withNames>[1];

const flag = (isOn: boolean) => (isOn ? 1 : null);

/** How each part is written; null takes a name out of the address. */
const WRITERS: { [K in keyof BenchAddress]: (value: BenchAddress[K]) => Texts } = {
  scan: (scan) => ({ scan }),
  range: (range) => ({ from: range?.[0] ?? null, to: range?.[1] ?? null }),
  level: (level) => ({ level }),
  finding: (finding) => ({ finding }),
  side: (side) => ({ side }),
  hasParts: (isOn) => ({ parts: flag(isOn) }),
  hasFold: (isOn) => ({ fold: flag(isOn) }),
  hasForms: (isOn) => ({ forms: flag(isOn) }),
  hasLoss: (isOn) => ({ loss: flag(isOn) }),
  hasUnits: (isOn) => ({ units: flag(isOn) }),
  beside: (ids) => ({ beside: ids.slice(0, MOST_BESIDE).join(",") || null }),
  others: ({ ids, isCommon, isOver }) => ({
    with: ids.join(",") || null,
    scale: isCommon && ids.length ? "common" : null,
    lay: isOver && ids.length ? "over" : null,
  }),
  look: ({ by, isLog, isStep, under }) => ({
    by: by || null,
    axis: isLog ? "log" : null,
    line: isStep ? "steps" : null,
    under: under || null,
  }),
  ahead: (ahead) => ({
    ahead: ahead?.days ?? null,
    sure: ahead?.interval ?? null,
    skip: ahead?.skip || null,
    limit: ahead && ahead.side !== "none" ? `${ahead.side} ${ahead.limit ?? ""}` : null,
    family: flag(ahead?.isFamily ?? false),
  }),
};

/** The address with some of its parts changed; what it says beside them stays. */
export function writeAddress(old: URLSearchParams, changes: Partial<BenchAddress>): URLSearchParams {
  return (Object.keys(changes) as (keyof BenchAddress)[]).reduce((next, name) => {
    const write = WRITERS[name] as (value: unknown) => Texts;
    return withNames(next, write(changes[name]));
  }, old);
}
