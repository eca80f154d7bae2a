import { TextWord } from "./controls";
import type { OfPlan } from "./plan";

type Train = "all" | { share?: number; until?: string };

/** What part of a history trains, in words and as it is written. */
export function trainWords(train: Train): [string, string] {
  if (train === "all") return ["all of the history", "all"];
  if (train.share !== undefined) {
    const percent = `${Math.round(train.share * 1000) / 10} %`;
    return [`the first ${percent}`, percent];
  }
  return [`what came before ${train.until}`, train.until ?? ""];
}

/** `all`, a share such as 70 %, else a moment before which training ends: the server says what it cannot read. */
export function parseTrain(text: string): Train {
  const plain = text.trim();
  if (plain === "" || plain.toLowerCase() === "all") return "all";
  const percent = /^(\d+(?:\.\d+)?)\s*%$/.exec(plain);
  return percent ? { share: Number(percent[1]) / 100 } : { until: plain };
}

/** The part of the history that trains, as a word of the plan's sentence. */
export function TrainWord({ plan, isWrong, onChange }: OfPlan) {
  const [words, written] = trainWords((plan.baseline.train ?? "all") as Train);
  return (
    <TextWord
      words={words}
      name="training"
      isWrong={isWrong("baseline.train")}
      ask="Learn from"
      value={written}
      help="all, a share such as 70 %, or a moment such as 2026-10-01 before which it ends. The rest is judged by what was learned."
      onDone={(text) => onChange({ ...plan, baseline: { ...plan.baseline, train: parseTrain(text) } })}
    />
  );
}
