import { seasonWords } from "../../parts/words";
import { TextWord } from "./controls";
import type { PlanData } from "./plan";

const LEARNED: Record<string, { before: string; width: string; after: string; usual: string }> = {
  "next-step": { before: "the", width: "hidden", after: "units wide", usual: "32" },
  reconstruction: { before: "windows of", width: "bottleneck", after: "wide at its narrowest", usual: "8" },
};

/** Of a network, in the plan's sentence: how far it looks, and how wide it is. */
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
      {own.after},
    </>
  );
}
