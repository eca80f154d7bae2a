import { Choice, TextControl, Word } from "./controls";
import type { PlanData } from "./plan";

type Options = Record<string, { words: string; help: string }>;

const AS: Options = {
  auto: {
    words: "what they look like",
    help: "Whole numbers from 0 on are counts; with a denominator they are ratios.",
  },
  value: { words: "values", help: "The spread follows the slot." },
  count: { words: "counts", help: "The spread grows with the expected count; exact odds where it is small." },
  ratio: { words: "ratios", help: "The spread narrows as the denominator grows." },
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
    words: "windows speak too",
    help: "Ramps, bursts, stuck values and shapes out of place, which hardly show sample by sample.",
  },
  none: { words: "only samples speak", help: "" },
};
const SPREADS: Options = {
  robust: { words: "robust", help: "By medians: outliers in the history do not widen it." },
  sd: { words: "the standard deviation", help: "One wild sample widens it." },
};
/** What each kind can be told, for the help; the server checks names and values. */
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
};

/** The rest of the plan, in words that can be changed in place. */
export function MoreWords({
  plan,
  resolved,
  isWrong,
  onChange,
}: {
  plan: PlanData;
  resolved?: Record<string, unknown>;
  isWrong: (...places: string[]) => boolean;
  onChange: (plan: PlanData) => void;
}) {
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
      The samples are{" "}
      <Word
        words={as === "auto" ? (AS[found ?? ""]?.words ?? "what they look like") : words(AS, as)}
        label="kind of values"
        isWrong={isWrong("prepare.as")}
      >
        <Choice
          label="The samples are"
          value={as}
          options={AS}
          onDone={(value) => set("prepare", { as: value })}
        />
      </Word>{" "}
      and go in{" "}
      <Word
        words={prepare.transform === "none" || !prepare.transform ? "as they are" : String(prepare.transform)}
        label="transform"
        isWrong={isWrong("prepare.transform")}
      >
        <TextControl
          label="Transform"
          value={String(prepare.transform ?? "none")}
          help="none, log, log1p, box-cox, difference 24h, rolling mean 1h, z-score, min-max. Expected values are shown on the stream's own scale."
          onDone={(transform) => set("prepare", { transform: transform || "none" })}
        />
      </Word>
      . Days go by{" "}
      <Word words={words(CLOCKS, clock)} label="clock" isWrong={isWrong("baseline.clock")}>
        <Choice
          label="Days go by"
          value={clock}
          options={CLOCKS}
          onDone={(value) => set("baseline", { clock: value })}
        />
      </Word>
      . A step that lasts{" "}
      <Word words={String(baseline.settle ?? "3d")} label="settling" isWrong={isWrong("baseline.settle")}>
        <TextControl
          label="A step becomes the normal after"
          value={String(baseline.settle ?? "3d")}
          help="A duration such as 3d; 0s follows no step."
          onDone={(settle) => set("baseline", { settle })}
        />
      </Word>{" "}
      becomes the normal. Learn from all but{" "}
      <Word words={words(LEAVE, leave)} label="left out" isWrong={isWrong("baseline.leave_out")}>
        <Choice
          label="Leave out of training"
          value={leave}
          options={LEAVE}
          onDone={(value) => set("baseline", { leave_out: value === "none" ? [] : value.split(" ") })}
        />
      </Word>
      , with{" "}
      <Word
        words={written || "no settings of its own"}
        label="settings"
        isWrong={isWrong("baseline.options")}
      >
        <TextControl
          label="Settings of this baseline"
          value={written}
          help={`Written as name: value, name: value. Here: ${OWN[String(baseline.kind)] ?? "see the formats"}.`}
          onDone={(text) => set("baseline", { options: parseOptions(text) })}
        />
      </Word>
      . The spread is{" "}
      <Word
        words={words(SPREADS, String(flag.spread ?? "robust"))}
        label="spread"
        isWrong={isWrong("flag.spread")}
      >
        <Choice
          label="Spread"
          value={String(flag.spread ?? "robust")}
          options={SPREADS}
          onDone={(value) => set("flag", { spread: value })}
        />
      </Word>
      ;{" "}
      <Word
        words={words(WINDOWS, String(flag.windows ?? "auto"))}
        label="windows"
        isWrong={isWrong("flag.windows")}
      >
        <Choice
          label="Evidence"
          value={String(flag.windows ?? "auto")}
          options={WINDOWS}
          onDone={(value) => set("flag", { windows: value })}
        />
      </Word>
      . A finding lasts at least{" "}
      <Word words={`${plan.group.shortest}`} label="shortest" isWrong={isWrong("group.shortest")}>
        <TextControl
          label="At least so many samples"
          value={String(plan.group.shortest)}
          help="From the first to the last flagged one."
          onDone={(text) => set("group", { shortest: Number(text) })}
        />
      </Word>{" "}
      {plan.group.shortest === 1 ? "sample" : "samples"}. Odd windows of{" "}
      <Word words={String(discords.window ?? "none")} label="odd windows" isWrong={isWrong("discords")}>
        <TextControl
          label="Length of odd windows"
          value={String(discords.window ?? "none")}
          help="none, or a duration such as 24h: the windows least like any other become findings."
          onDone={(window) => set("discords", { window: window || "none" })}
        />
      </Word>
      . A replay refits every{" "}
      <Word words={String(replay.refit ?? "auto")} label="refitting" isWrong={isWrong("replay.refit")}>
        <TextControl
          label="Refit every"
          value={String(replay.refit ?? "auto")}
          help="auto (a day), or a duration such as 7d"
          onDone={(refit) => set("replay", { refit: refit || "auto" })}
        />
      </Word>{" "}
      on the last{" "}
      <Word words={String(replay.window ?? "auto")} label="replay window" isWrong={isWrong("replay.window")}>
        <TextControl
          label="Fit on the last"
          value={String(replay.window ?? "auto")}
          help="auto (eight weeks), or a duration such as 28d"
          onDone={(window) => set("replay", { window: window || "auto" })}
        />
      </Word>
      .
    </span>
  );
}

/** `centre: mean, previous: 4` as options; numbers, yes and no are told from words. */
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
