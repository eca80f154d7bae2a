import { Button, Group } from "@mantine/core";
import { useState } from "react";
import { UNDER_PLOT } from "../../charts/paneOptions";
import type { Range } from "../../charts/TimePane";
import { WordSelect } from "../../parts/WordSelect";
import { spanWords } from "../../parts/words";
import { shownZone } from "../../parts/zones";
import { TextControl, Word } from "./controls";
import { betweenOf, lengthOf, lengthWords } from "./spans";
import type { By, Look, StreamFacts, Under } from "./types";

const DAY = 86_400_000;
const SPANS: [string, number][] = [
  ["a day", DAY],
  ["a week", 7 * DAY],
  ["four weeks", 28 * DAY],
  ["a year", 366 * DAY],
];
/** A span of fewer samples says little. */
const LEAST_SAMPLES = 8;
const PERIODS: [By, string, number][] = [
  ["hour", "the hour", DAY / 24],
  ["day", "the day", DAY],
  ["week", "the week", 7 * DAY],
  ["month", "the month", 28 * DAY],
];
const LINES = [
  ["line", "a line"],
  ["steps", "steps"],
] as const;
const AXES = [
  ["linear", "a linear axis"],
  ["log", "a logarithmic axis"],
] as const;
const UNDERS: (readonly [Under | "", string])[] = [
  ["", "nothing"],
  ["day", "the day before"],
  ["week", "the week before"],
  ["season", "the longest season before"],
];

/** How much time is in sight and how it is drawn, in words that can be changed. */
export function ChartWords({
  stream,
  range,
  whole,
  setRange,
  look,
  setLook,
}: {
  stream: StreamFacts;
  range: Range;
  whole: Range;
  setRange: (range: Range) => void;
  look: Look;
  setLook: (look: Look) => void;
}) {
  const [from, to] = range;
  const length = to - from;
  const step = stream.step_s * 1000;
  const [wrong, setWrong] = useState("");
  // The middle stays where it is, or the end where that was in sight.
  const take = (span: number) => {
    const end = to >= whole[1] ? to : Math.min(whole[1], (from + to + span) / 2);
    setRange([end - span, end]);
  };
  const write = (text: string) => {
    const between = betweenOf(text, stream.zone);
    const span = lengthOf(text);
    setWrong(between || span ? "" : `"${text}" is no span: write 3 d, 36 h or two dates.`);
    if (between) setRange(between);
    else if (span) take(span);
  };
  const fits = SPANS.filter(([, ms]) => ms >= LEAST_SAMPLES * step && ms < whole[1] - whole[0]);
  const isNear = (ms: number) => Math.abs(length / ms - 1) < 0.02;
  const periods = PERIODS.filter(([, , ms]) => ms > step && ms * 2 < whole[1] - whole[0]);
  return (
    <Group gap="2px 20px" justify="space-between" {...UNDER_PLOT} mb={8} className="small">
      <Group component="span" gap="2px 12px">
        {fits.map(([words, ms]) => (
          <Button key={words} onClick={() => take(ms)} aria-pressed={isNear(ms)}>
            {words}
          </Button>
        ))}
        <Button onClick={() => setRange(whole)} aria-pressed={isNear(whole[1] - whole[0])}>
          all
        </Button>
        <span>
          in sight:{" "}
          <Word words={lengthWords(length)} label="span" isWrong={wrong !== ""}>
            <TextControl
              label="How much time, or from when to when"
              value={lengthWords(length)}
              help={`3 d, 36 h, 2 weeks; or 2026-05-01 to 2026-05-09 by the clock of ${shownZone(stream.zone)}. Now ${spanWords(from, to, stream.zone)}.`}
              onDone={write}
            />
          </Word>
        </span>
      </Group>
      <span className="look">
        {periods.length > 0 && (
          <>
            by{" "}
            <WordSelect<By | "">
              label="How coarse"
              title="Put together by a longer period; the plan stays as it is"
              value={look.by}
              choices={[["", "sample"], ...periods.map(([by, words]) => [by, words] as const)]}
              onChange={(by) => setLook({ ...look, by })}
            />{" "}
            as{" "}
          </>
        )}
        <WordSelect
          label="Line or steps"
          title="Steps: each value holds until the next, as counts and states do"
          value={look.isStep ? "steps" : "line"}
          choices={LINES}
          onChange={(value) => setLook({ ...look, isStep: value === "steps" })}
        />{" "}
        on{" "}
        <WordSelect
          label="Vertical axis"
          value={look.isLog ? "log" : "linear"}
          choices={AXES}
          onChange={(value) => setLook({ ...look, isLog: value === "log" })}
        />{" "}
        with{" "}
        <WordSelect
          label="Laid under the line"
          value={look.under}
          choices={UNDERS}
          onChange={(under) => setLook({ ...look, under })}
        />{" "}
        under it
      </span>
      {wrong && (
        <span role="alert" className="above">
          {wrong}
        </span>
      )}
    </Group>
  );
}
