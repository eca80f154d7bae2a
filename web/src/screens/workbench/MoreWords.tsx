import { ChoiceWord, type Options, TextWord } from "./controls";
import type { OfPlan } from "./plan";
import { TrainWord } from "./TrainWord";
import { UnitWord } from "./units/UnitSentence";

const AS: Options = {
  auto: {
    words: "what they look like",
    help: "Whole numbers from 0 on are counts; with a denominator they are ratios.",
  },
  value: { words: "values", help: "The spread follows the slot." },
  count: {
    words: "counts",
    help: "Scores are read by a negative binomial, whose spread grows with the expected count.",
  },
  ratio: { words: "ratios", help: "The spread narrows as the denominator grows; of counts a beta-binomial." },
};
const CLOCKS: Options = {
  auto: { words: "whichever fits", help: "Tried by the held-out loss where the clocks have changed." },
  local: { words: "the clocks", help: "08:00 stays 08:00 when they change." },
  utc: { words: "UTC", help: "For what follows the sun or the moon." },
};
const LEAVE: Options = {
  incident: { words: "incidents", help: "" },
  "incident foreseen": { words: "incidents and foreseen days", help: "" },
  none: { words: "nothing at all", help: "Past incidents then widen the band." },
};
const WINDOWS: Options = {
  auto: {
    words: "windows count too",
    help: "Ramps, bursts, stuck values and shapes out of place, which hardly show sample by sample.",
  },
  none: { words: "samples only", help: "" },
};
const SPREADS: Options = {
  robust: { words: "robust", help: "By medians: outliers in the history do not widen it." },
  sd: { words: "the standard deviation", help: "One wild sample widens it." },
};
/** What each kind takes, for the help; the server checks names and values. */
const OWN: Record<string, string> = {
  auto: "none; state the baseline first",
  harmonic: "harmonics (a whole number), bends (a duration), robust (true or false)",
  loess: "season_window and trend_window (odd numbers), sweeps_robust",
  classical: "none",
  slot: "centre (median, mean, trimmed), previous (so many seasons)",
  rolling: "window (a duration), centre (median, mean)",
  spectrum: "window (a duration), rank, method (reconstruction, forecast)",
  fixed: "lower, upper; without them limits are proposed from history, with the reason",
  trailing: "reference and gap (durations), share",
  isolation: "lags, trees, subsample, share, seed",
  "next-step": "window (a duration), hidden, epochs, patience, seed",
  reconstruction: "window (a duration), stride, bottleneck, epochs, patience, seed",
};

/** The rest of the plan, in words that can be changed in place. */
export function MoreWords({
  plan,
  resolved,
  isWrong,
  onChange,
}: OfPlan & { resolved?: Record<string, unknown> }) {
  const prepare = plan.prepare as Record<string, unknown>;
  const baseline = plan.baseline as Record<string, unknown>;
  const flag = plan.flag as Record<string, unknown>;
  const discords = (plan.discords ?? {}) as Record<string, unknown>;
  const replay = (plan.replay ?? {}) as Record<string, unknown>;
  const set = (part: string, values: Record<string, unknown>) =>
    onChange({ ...plan, [part]: { ...(plan[part] as object), ...values } });
  const as = String(prepare.as ?? "auto");
  const found = (resolved?.prepare as { as?: string } | undefined)?.as;
  const leave = ((baseline.leave_out as string[] | undefined) ?? ["incident"]).join(" ") || "none";
  const options = (baseline.options ?? {}) as Record<string, unknown>;
  const written = Object.entries(options)
    .map(([name, value]) => `${name}: ${String(value)}`)
    .join(", ");
  const clock = String(baseline.clock ?? "auto");
  const words = (table: Options, name: string) => table[name]?.words ?? name;
  return (
    <span>
      {" "}
      Judge <UnitWord plan={plan} isWrong={isWrong} onChange={onChange} />. The samples are{" "}
      <ChoiceWord
        words={as === "auto" ? (AS[found ?? ""]?.words ?? "what they look like") : words(AS, as)}
        name="kind of values"
        isWrong={isWrong("prepare.as")}
        ask="The samples are"
        value={as}
        options={AS}
        onDone={(value) => set("prepare", { as: value })}
      />{" "}
      and go in{" "}
      <TextWord
        words={prepare.transform === "none" || !prepare.transform ? "as they are" : String(prepare.transform)}
        name="transform"
        isWrong={isWrong("prepare.transform")}
        ask="Transform"
        value={String(prepare.transform ?? "none")}
        help="none, log, log1p, box-cox, difference 24h, rolling mean 1h, z-score, min-max. Expected values are shown on the stream's own scale."
        onDone={(transform) => set("prepare", { transform: transform || "none" })}
      />
      . Days go by{" "}
      <ChoiceWord
        words={words(CLOCKS, clock)}
        name="clock"
        isWrong={isWrong("baseline.clock")}
        ask="Days go by"
        value={clock}
        options={CLOCKS}
        onDone={(value) => set("baseline", { clock: value })}
      />
      . A step that lasts{" "}
      <TextWord
        words={String(baseline.settle ?? "3d")}
        name="settling"
        isWrong={isWrong("baseline.settle")}
        ask="A step becomes the normal after"
        value={String(baseline.settle ?? "3d")}
        help="A duration such as 3d; 0s follows no step."
        onDone={(settle) => set("baseline", { settle })}
      />{" "}
      becomes the normal. Learn from <TrainWord plan={plan} isWrong={isWrong} onChange={onChange} /> but{" "}
      <ChoiceWord
        words={words(LEAVE, leave)}
        name="left out"
        isWrong={isWrong("baseline.leave_out")}
        ask="Leave out of training"
        value={leave}
        options={LEAVE}
        onDone={(value) => set("baseline", { leave_out: value === "none" ? [] : value.split(" ") })}
      />
      , with{" "}
      <TextWord
        words={written || "no settings of its own"}
        name="settings"
        isWrong={isWrong("baseline.options")}
        ask="Settings of this baseline"
        value={written}
        help={`Written as name: value, name: value. Here: ${OWN[String(baseline.kind)] ?? "see the formats"}.`}
        onDone={(text) => set("baseline", { options: parseOptions(text) })}
      />
      . The spread is{" "}
      <ChoiceWord
        words={words(SPREADS, String(flag.spread ?? "robust"))}
        name="spread"
        isWrong={isWrong("flag.spread")}
        ask="Spread"
        value={String(flag.spread ?? "robust")}
        options={SPREADS}
        onDone={(value) => set("flag", { spread: value })}
      />
      ;{" "}
      <ChoiceWord
        words={words(WINDOWS, String(flag.windows ?? "auto"))}
        name="windows"
        isWrong={isWrong("flag.windows")}
        ask="Evidence"
        value={String(flag.windows ?? "auto")}
        options={WINDOWS}
        onDone={(value) => set("flag", { windows: value })}
      />
      . A finding lasts at least{" "}
      <TextWord
        words={`${plan.group.shortest}`}
        name="shortest"
        isWrong={isWrong("group.shortest")}
        ask="At least so many samples"
        value={String(plan.group.shortest)}
        help="From the first to the last flagged one."
        onDone={(text) => set("group", { shortest: Number(text) })}
      />{" "}
      {plan.group.shortest === 1 ? "sample" : "samples"}. Odd windows of{" "}
      <TextWord
        words={String(discords.window ?? "none")}
        name="odd windows"
        isWrong={isWrong("discords")}
        ask="Length of odd windows"
        value={String(discords.window ?? "none")}
        help="none, or a duration such as 24h: the windows least like any other become findings."
        onDone={(window) => set("discords", { window: window || "none" })}
      />
      . <ReplayWords replay={replay} isWrong={isWrong} set={(values) => set("replay", values)} />
    </span>
  );
}

/** How often a replay refits, and on how much. */
function ReplayWords({
  replay,
  isWrong,
  set,
}: {
  replay: Record<string, unknown>;
  isWrong: (...places: string[]) => boolean;
  set: (values: Record<string, unknown>) => void;
}) {
  return (
    <>
      A replay refits every{" "}
      <TextWord
        words={String(replay.refit ?? "auto")}
        name="refitting"
        isWrong={isWrong("replay.refit")}
        ask="Refit every"
        value={String(replay.refit ?? "auto")}
        help="auto (a day), or a duration such as 7d"
        onDone={(refit) => set({ refit: refit || "auto" })}
      />{" "}
      on the last{" "}
      <TextWord
        words={String(replay.window ?? "auto")}
        name="replay window"
        isWrong={isWrong("replay.window")}
        ask="Fit on the last"
        value={String(replay.window ?? "auto")}
        help="auto (eight weeks), or a duration such as 28d"
        onDone={(window) => set({ window: window || "auto" })}
      />
      .
    </>
  );
}

/** `centre: mean, previous: 4` as options; numbers, yes and no are no words. */
export function parseOptions(text: string): Record<string, unknown> {
  const out: Record<string, unknown> = {};
  for (const part of text.split(",")) {
    const [name, ...rest] = part.split(":");
    const value = rest.join(":").trim();
    if (!name?.trim() || !value) continue;
    out[name.trim()] =
      value === "true" || value === "false"
        ? value === "true"
        : Number.isNaN(Number(value))
          ? value
          : Number(value);
  }
  return out;
}
