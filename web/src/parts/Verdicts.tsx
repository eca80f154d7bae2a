import type { Verdict } from "../api/client";
import { VerdictMark } from "./marks";

export type Judgement = Exclude<Verdict, "reviewed">;

export const VERDICTS: { verdict: Judgement; key: string; words: string; help: string }[] = [
  { verdict: "incident", key: "i", words: "Incident", help: "something was wrong" },
  { verdict: "foreseen", key: "f", words: "Foreseen", help: "a known event, all right" },
  { verdict: "false-alarm", key: "x", words: "False alarm", help: "nothing there" },
  { verdict: "unsure", key: "u", words: "Unsure", help: "leave it out of the count" },
];

/** The keys of the verdicts, for `useKeys`. */
export function verdictKeys(judge: (verdict: Judgement) => void): Record<string, () => void> {
  return Object.fromEntries(VERDICTS.map((v) => [v.key, () => judge(v.verdict)]));
}

/** The four verdicts as buttons, each with its key, pattern and what it means. */
export function Verdicts({ judge, isOff }: { judge: (verdict: Judgement) => void; isOff: boolean }) {
  return (
    <div className="verdicts">
      {VERDICTS.map((v) => (
        <button key={v.verdict} type="button" onClick={() => judge(v.verdict)} disabled={isOff}>
          <kbd>{v.key.toUpperCase()}</kbd>
          <VerdictMark verdict={v.verdict} />
          <span>
            <strong>{v.words}</strong>
            <span className="soft small">{v.help}</span>
          </span>
        </button>
      ))}
    </div>
  );
}
