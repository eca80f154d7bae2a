import { Box } from "@mantine/core";
import { ChoiceWord, LevelControl, type Options, TextWord, Word } from "../controls";
import { levelWords, type OfPlan } from "../plan";
import { TrainWord } from "../TrainWord";

const KINDS: Options = {
  reconstruction: {
    words: "what a narrow network gives back",
    help: "Learns what usual units have in common; one that it cannot rebuild is odd.",
  },
  isolation: {
    words: "what is not easily set apart",
    help: "Random cuts; one that few of them part from all others is odd. Quick, and misses odd shapes of usual size.",
  },
};

/** "gap 1s", "length 24h" or "none", as people write it; null for anything else. */
export function unitOf(text: string): "none" | Record<string, string> | null {
  const words = text.trim().toLowerCase();
  if (words === "none" || words === "") return "none";
  const [, how, amount] = /^(gap|length)\s+(\S+)$/.exec(words) ?? [];
  return how && amount ? { [how]: amount } : null;
}

/** What the plan judges: single samples, or bursts or stretches as wholes. */
export function UnitWord({ plan, isWrong, onChange }: OfPlan) {
  const unit = plan.prepare.unit as "none" | { gap?: string | null; length?: string | null } | undefined;
  const [how, amount] =
    unit && unit !== "none" ? (unit.gap ? ["gap", unit.gap] : ["length", unit.length]) : [];
  const words = !how
    ? "each sample by itself"
    : how === "gap"
      ? `each burst, parted by ${amount} without a sample,`
      : `each stretch of ${amount}`;
  const take = (text: string) => {
    const taken = unitOf(text);
    if (taken === null) return;
    const baseline =
      taken === "none" || ["reconstruction", "isolation"].includes(plan.baseline.kind)
        ? plan.baseline
        : { ...plan.baseline, kind: "reconstruction", options: {} };
    onChange({ ...plan, prepare: { ...plan.prepare, unit: taken }, baseline });
  };
  return (
    <TextWord
      words={words}
      name="unit"
      isWrong={isWrong("prepare.unit")}
      ask="What is judged as one"
      value={how ? `${how} ${amount}` : "none"}
      help="none, gap 1s for bursts that end where nothing comes for longer, or length 24h"
      onDone={take}
    />
  );
}

/** The plan of a scan of units as a sentence. */
export function UnitSentence({
  plan,
  isWrong,
  levels,
  onChange,
}: OfPlan & { levels: { above: number | null } | null }) {
  const [[reading, amount] = ["sigmas", 4]] = Object.entries(plan.flag.level);
  const options = (plan.baseline.options ?? {}) as Record<string, unknown>;
  const kind = plan.baseline.kind.startsWith("auto") ? "reconstruction" : plan.baseline.kind;
  const change = (text: string) => {
    const { bottleneck: _, ...others } = options;
    const own = text.trim() ? { ...others, bottleneck: Number(text) } : others;
    onChange({ ...plan, baseline: { ...plan.baseline, options: own } });
  };
  return (
    <Box lh={1.75} m="4px 0 8px" className="sentence">
      Judge <UnitWord plan={plan} isWrong={isWrong} onChange={onChange} /> as a whole. Expect{" "}
      <ChoiceWord
        words={KINDS[kind]?.words ?? kind}
        name="baseline"
        isWrong={isWrong("baseline.kind")}
        ask="Baseline"
        value={kind}
        options={KINDS}
        onDone={(chosen) => onChange({ ...plan, baseline: { ...plan.baseline, kind: chosen, options: {} } })}
      />
      {kind === "reconstruction" && (
        <>
          ,{" "}
          <TextWord
            words={options.bottleneck === undefined ? "8" : String(options.bottleneck)}
            name="width of the network"
            isWrong={isWrong("baseline.options")}
            ask="How many units of the network at its narrowest"
            value={options.bottleneck === undefined ? "" : String(options.bottleneck)}
            help="A whole number; nothing for 8. Fewer learn less by heart."
            onDone={change}
          />{" "}
          wide at its narrowest
        </>
      )}
      . Flag past{" "}
      <Word
        words={levelWords(plan.flag.level).replace("samples", "units")}
        label="level"
        isWrong={isWrong("flag.level", "flag")}
      >
        <LevelControl
          reading={reading}
          amount={amount}
          onDone={(level) => onChange({ ...plan, flag: { ...plan.flag, level } })}
        />
      </Word>
      {reading !== "sigmas" && levels?.above != null && (
        <span className="soft"> (for this stream {levels.above.toFixed(1)} σ)</span>
      )}
      . Learn from <TrainWord plan={plan} isWrong={isWrong} onChange={onChange} />
      {(plan.baseline.train ?? "all") === "all"
        ? ": the first three fifths train, the next fifth shows when to stop, the last is the test"
        : ": the last quarter of it shows when to stop, what comes after is the test"}
      ; incidents of the logbook never train.
    </Box>
  );
}
