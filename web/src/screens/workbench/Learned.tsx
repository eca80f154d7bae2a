import { seasonWords } from "../../parts/words";
import { ChoiceWord, type Options, TextWord } from "./controls";
import type { PlanData } from "./plan";

const LEARNED: Record<string, { before: string; width: string; after: string; usual: string }> = {
  "next-step": { before: "the", width: "hidden", after: "units wide", usual: "32" },
  reconstruction: { before: "windows of", width: "bottleneck", after: "wide at its narrowest", usual: "8" },
};

const PER: Options = {
  stream: { words: "one for each stream", help: "Trained on the stream's own history alone." },
  family: {
    words: "one for the whole family",
    help: "Trained on all streams of the metric, each scaled by itself; a new stream is judged from its first windows on. Needs stated seasons.",
  },
};

/** Of a network, in the plan's sentence: how far it looks, how wide it is, and what streams share it. */
export function Learned({
  plan,
  isWrong,
  set,
}: {
  plan: PlanData;
  isWrong: boolean;
  set: (options: Record<string, unknown>) => void;
}) {
  const own = LEARNED[plan.baseline.kind];
  if (!own) return null;
  const options = (plan.baseline.options ?? {}) as Record<string, unknown>;
  const change = (name: string, value: string | number | undefined) => {
    const { [name]: _, ...others } = options;
    set(value === undefined ? others : { ...others, [name]: value });
  };
  const width = options[own.width];
  return (
    <>
      {" "}
      from {own.before}{" "}
      <TextWord
        words={options.window === undefined ? "season" : seasonWords(String(options.window))}
        name="window"
        isWrong={isWrong}
        ask={`How far it looks: from ${own.before}`}
        value={options.window === undefined ? "" : String(options.window)}
        help="A duration such as 24h; nothing for one of the shortest season, at most 96 samples"
        onDone={(text) => change("window", text.trim() || undefined)}
      />
      {own.before === "the" ? " before" : ""},{" "}
      <TextWord
        words={width === undefined ? own.usual : String(width)}
        name="width of the network"
        isWrong={isWrong}
        ask="How many units"
        value={width === undefined ? "" : String(width)}
        help={`A whole number; nothing for ${own.usual}. Fewer learn less by heart.`}
        onDone={(text) => change(own.width, text.trim() ? Number(text) : undefined)}
      />{" "}
      {own.after},{" "}
      <ChoiceWord
        words={PER[String(options.per ?? "stream")]?.words ?? String(options.per)}
        name="shared by"
        isWrong={isWrong}
        ask="One network for"
        value={String(options.per ?? "stream")}
        options={PER}
        onDone={(per) => change("per", per === "family" ? per : undefined)}
      />
      ,
    </>
  );
}
