import { Box, UnstyledButton } from "@mantine/core";
import { useState } from "react";
import { seasonWords } from "../../parts/words";
import { ChoiceWord, LevelControl, type Options, PersistenceControl, TextWord, Word } from "./controls";
import { Learned } from "./Learned";
import { MoreWords } from "./MoreWords";
import { levelWords, type PlanData } from "./plan";
import { UnitSentence } from "./units/UnitSentence";

interface Props {
  plan: PlanData;
  resolved?: Record<string, unknown>;
  levels: { above: number | null; below: number | null } | null;
  /** Places of the plan that were refused, such as flag.level. */
  wrong: string[];
  /** What the level promises: one in how many samples, how many false findings a week. */
  promise?: string;
  onChange: (plan: PlanData) => void;
}

const KINDS: Options = {
  auto: { words: "the fitting baseline", help: "Chosen from the data; what was chosen stands below." },
  "auto+learned": {
    words: "the fitting baseline, networks too",
    help: "As above, and networks are tried beside the others, which takes seconds a stream.",
  },
  harmonic: {
    words: "a harmonic model",
    help: "A trend with bends and seasons of any length, fitted together. Misleads where a season is all jumps.",
  },
  loess: {
    words: "a robust loess",
    help: "Trend and seasons that change slowly. Misleads where the season jumps from one shape to another.",
  },
  slot: {
    words: "the same slot",
    help: "The median of this weekday and time. Misleads where the level grows: it has no trend.",
  },
  classical: {
    words: "a classical decomposition",
    help: "A moving average and the mean of each slot. Misleads where outliers sit in the history.",
  },
  rolling: {
    words: "a rolling window",
    help: "The middle of the samples just before. Misleads in a long incident: it becomes the normal.",
  },
  spectrum: {
    words: "the strongest oscillations",
    help: "Rebuilt from windows of the history. Misleads where noise is as strong as the pattern.",
  },
  trailing: {
    words: "limits that trail behind",
    help: "What the weeks before lay between. Misleads with strong seasons: the limits hold all of them.",
  },
  fixed: {
    words: "fixed limits",
    help: "Stated in the plan, or proposed from history. Flagged exactly where they are crossed.",
  },
  isolation: {
    words: "random isolation trees",
    help: "Windows set apart from all others. Misleads where seasons are strong: the rare hour is not wrong.",
  },
  "next-step": {
    words: "what a network learned",
    help: "The next sample from those before it. Misleads where history is short: it then knows little but the last hours.",
  },
  reconstruction: {
    words: "what a narrow network gives back",
    help: "Windows squeezed through few units: what they have in common passes. Finds odd shapes; misleads where every window differs.",
  },
};

const COMBINE: Options = {
  auto: { words: "what fits", help: "The sum of counts taken together, else the mean." },
  mean: { words: "mean", help: "" },
  sum: { words: "sum", help: "For counts." },
  count: { words: "count", help: "How many samples there were." },
  min: { words: "least", help: "" },
  max: { words: "largest", help: "" },
  last: { words: "last", help: "For gauges." },
  p50: { words: "median", help: "" },
  p95: { words: "95th percentile", help: "" },
  p99: { words: "99th percentile", help: "" },
};

const FORMS: Options = {
  auto: { words: "what fits", help: "Chosen by the held-out loss; the reason stands below." },
  additive: { words: "added", help: "The season swings as far at any level." },
  multiplicative: {
    words: "multiplied",
    help: "The season swings in proportion to the level. Needs values above 0.",
  },
};

function formOf(plan: PlanData, resolved?: string): string {
  const stated = plan.baseline.form ?? "auto";
  return stated === "auto" ? (resolved ?? "additive") : String(stated);
}

/** The plan reads as a sentence whose dotted words are controls. */
export function Sentence({ plan, resolved, levels, wrong, promise, onChange }: Props) {
  const [isMore, setMore] = useState(false);
  const isWrong = (...places: string[]) => wrong.some((w) => places.some((p) => w.startsWith(p)));
  const prepare = (resolved?.prepare ?? {}) as { every?: string; combine?: string };
  const baseline = (resolved?.baseline ?? {}) as { kind?: string; seasons?: string[]; form?: string };
  const seasons = plan.baseline.seasons === "auto" ? (baseline.seasons ?? []) : plan.baseline.seasons;
  const ofSeasons = seasons.length
    ? seasons.map(seasonWords).join(" and ")
    : plan.baseline.seasons === "auto" && !resolved
      ? "those it finds"
      : "none";
  const set = <K extends "prepare" | "baseline" | "flag" | "group" | "shifts">(
    part: K,
    values: Partial<PlanData[K]>,
  ) => onChange({ ...plan, [part]: { ...plan[part], ...values } });
  const [[reading, amount] = ["sigmas", 4]] = Object.entries(plan.flag.level);
  if (plan.prepare.unit && plan.prepare.unit !== "none")
    return <UnitSentence plan={plan} isWrong={isWrong} levels={levels ?? null} onChange={onChange} />;
  return (
    <Box lh={1.75} m="4px 0 8px" className="sentence">
      Take the{" "}
      <ChoiceWord
        words={plan.prepare.combine === "auto" ? (prepare.combine ?? "mean") : plan.prepare.combine}
        name="combining"
        isWrong={isWrong("prepare.combine")}
        ask="Of the samples within an interval, take"
        value={plan.prepare.combine}
        options={COMBINE}
        onDone={(combine) => set("prepare", { combine })}
      />{" "}
      every{" "}
      <TextWord
        words={plan.prepare.every === "auto" ? (prepare.every ?? "cadence") : plan.prepare.every}
        name="cadence"
        isWrong={isWrong("prepare.every")}
        ask="Every"
        value={String(plan.prepare.every)}
        help="auto, or a duration such as 15m or 1h"
        onDone={(every) => set("prepare", { every })}
      />
      . Expect{" "}
      <ChoiceWord
        words={
          KINDS[
            plan.baseline.kind.startsWith("auto") ? (baseline.kind ?? plan.baseline.kind) : plan.baseline.kind
          ]?.words ?? plan.baseline.kind
        }
        name="baseline"
        isWrong={isWrong("baseline.kind")}
        ask="Baseline"
        value={plan.baseline.kind}
        options={KINDS}
        onDone={(kind) => set("baseline", { kind, options: {} })}
      />
      <Learned
        plan={plan}
        isWrong={isWrong("baseline.options")}
        set={(options) => set("baseline", { options })}
      />{" "}
      with seasons of{" "}
      <TextWord
        words={ofSeasons}
        name="seasons"
        isWrong={isWrong("baseline.seasons")}
        ask="Seasons"
        value={plan.baseline.seasons === "auto" ? "auto" : plan.baseline.seasons.join(", ")}
        help="auto, none, or lengths such as 24h, 7d. At most half of the history."
        onDone={(text) => set("baseline", { seasons: parseSeasons(text) })}
      />
      ,{" "}
      <ChoiceWord
        words={formOf(plan, baseline.form) === "multiplicative" ? "multiplied" : "added"}
        name="form"
        isWrong={isWrong("baseline.form")}
        ask="Trend, seasons and the rest are"
        value={String(plan.baseline.form ?? "auto")}
        options={FORMS}
        onDone={(form) => set("baseline", { form })}
      />
      . Flag{" "}
      <ChoiceWord
        words={plan.flag.side === "both" ? "above and below" : plan.flag.side}
        name="side"
        isWrong={isWrong("flag.side")}
        ask="Side"
        value={plan.flag.side}
        options={{
          both: { words: "above and below", help: "" },
          above: { words: "above only", help: "" },
          below: { words: "below only", help: "" },
        }}
        onDone={(side) => set("flag", { side })}
      />{" "}
      past{" "}
      <Word words={levelWords(plan.flag.level)} label="level" isWrong={isWrong("flag.level", "flag")}>
        <LevelControl reading={reading} amount={amount} onDone={(level) => set("flag", { level })} />
      </Word>
      {reading !== "sigmas" && levels && <Readings levels={levels} />}
      {promise && <span className="soft"> — {promise}</span>}. Call it a finding when{" "}
      <Word words={`${plan.group.need} of ${plan.group.of}`} label="persistence" isWrong={isWrong("group")}>
        <PersistenceControl
          need={plan.group.need}
          of={plan.group.of}
          onDone={(need, of) => set("group", { need, of })}
        />
      </Word>{" "}
      samples agree; join gaps under{" "}
      <TextWord
        words={plan.group.merge}
        name="merge gap"
        isWrong={isWrong("group.merge")}
        ask="Join gaps under"
        value={String(plan.group.merge)}
        help="A duration such as 1h, or 0s"
        onDone={(merge) => set("group", { merge })}
      />
      .{" "}
      <ChoiceWord
        words={plan.shifts.of === "none" ? "Mark no shifts" : `Mark ${plan.shifts.of}s`}
        name="shifts"
        isWrong={isWrong("shifts")}
        ask="Shifts"
        value={plan.shifts.of}
        options={{
          step: { words: "steps of the level", help: "" },
          spread: { words: "changes of level or spread", help: "" },
          slope: { words: "bends of the slope", help: "" },
          none: { words: "none", help: "" },
        }}
        onDone={(of) => set("shifts", { of })}
      />
      .{" "}
      <UnstyledButton className="word" aria-expanded={isMore} onClick={() => setMore(!isMore)}>
        {isMore ? "less" : "more"}
      </UnstyledButton>
      {isMore && <MoreWords plan={plan} resolved={resolved} isWrong={isWrong} onChange={onChange} />}
    </Box>
  );
}

function Readings({ levels }: { levels: { above: number | null; below: number | null } }) {
  const words = [
    levels.above !== null && `${levels.above.toFixed(1)} σ above`,
    levels.below !== null && `${levels.below.toFixed(1)} σ below`,
  ];
  return <span className="soft"> (for this stream {words.filter(Boolean).join(", ")})</span>;
}

function parseSeasons(text: string): "auto" | string[] {
  const plain = text.trim().toLowerCase();
  if (plain === "auto" || plain === "") return "auto";
  return plain === "none" ? [] : plain.split(/[\s,]+/).filter(Boolean);
}
