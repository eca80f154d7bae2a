import { Box, Group, UnstyledButton } from "@mantine/core";
import type { Verdict } from "../api/client";
import { VerdictMark } from "./marks";

export type Judgement = Exclude<Verdict, "reviewed">;

export interface Choice<V extends Verdict = Verdict> {
  verdict: V;
  key: string;
  words: string;
  help: string;
}

export const VERDICTS: Choice<Judgement>[] = [
  { verdict: "incident", key: "i", words: "Incident", help: "something was wrong" },
  { verdict: "foreseen", key: "f", words: "Foreseen", help: "a known event, all right" },
  { verdict: "false-alarm", key: "x", words: "False alarm", help: "nothing there" },
  { verdict: "unsure", key: "u", words: "Unsure", help: "leave it out of the count" },
];

/** What may be said of a span that nobody flagged. */
export const SPAN_VERDICTS: Choice[] = [
  { verdict: "incident", key: "i", words: "Incident", help: "something was missed; move the edges" },
  { verdict: "foreseen", key: "f", words: "Foreseen", help: "a known event, all right" },
  { verdict: "reviewed", key: "x", words: "Nothing there", help: "rightly left alone" },
  { verdict: "unsure", key: "u", words: "Unsure", help: "leave it out of the count" },
];

/** The keys of these verdicts, for `useKeys`. */
export function verdictKeys<C extends Choice>(
  judge: (choice: C) => void,
  choices: C[],
): Record<string, () => void> {
  return Object.fromEntries(choices.map((c) => [c.key, () => judge(c)]));
}

/** Verdicts as buttons, each with its key, pattern and what it means. */
export function Verdicts<C extends Choice>({
  choices,
  judge,
  isOff,
}: {
  choices: C[];
  judge: (choice: C) => void;
  isOff: boolean;
}) {
  return (
    <div className="verdicts">
      {choices.map((v) => (
        <UnstyledButton
          key={v.verdict}
          w="100%"
          p="8px 4px"
          className="under lights"
          onClick={() => judge(v)}
          disabled={isOff}
        >
          <Group component="span" gap={12} wrap="nowrap">
            <kbd>{v.key.toUpperCase()}</kbd>
            <VerdictMark verdict={v.verdict} />
            <span>
              <strong>{v.words}</strong>
              <Box component="span" display="block" className="soft small">
                {v.help}
              </Box>
            </span>
          </Group>
        </UnstyledButton>
      ))}
    </div>
  );
}
