import { Button } from "@mantine/core";
import type { Range } from "../../charts/TimePane";

const DAY = 86_400_000;
const SPANS: [string, number][] = [
  ["A day", DAY],
  ["A week", 7 * DAY],
  ["Four weeks", 28 * DAY],
  ["A year", 366 * DAY],
];
/** A span of fewer samples says little. */
const LEAST_SAMPLES = 8;

/** How much time is in sight, by word; the middle stays where it is, or the end where that was in sight. */
export function SpanBar({
  range,
  whole,
  step_s,
  setRange,
}: {
  range: Range;
  whole: Range;
  step_s: number;
  setRange: (range: Range) => void;
}) {
  const [from, to] = range;
  const length = to - from;
  const take = (span: number) => {
    const end = to >= whole[1] ? to : Math.min(whole[1], (from + to + span) / 2);
    setRange([end - span, end]);
  };
  const fits = SPANS.filter(([, ms]) => ms >= LEAST_SAMPLES * step_s * 1000 && ms < whole[1] - whole[0]);
  const isNear = (ms: number) => Math.abs(length / ms - 1) < 0.02;
  return (
    <p className="small span-bar">
      {fits.map(([words, ms]) => (
        <Button key={words} onClick={() => take(ms)} aria-pressed={isNear(ms)}>
          {words}
        </Button>
      ))}
      <Button onClick={() => setRange(whole)} aria-pressed={isNear(whole[1] - whole[0])}>
        All
      </Button>
      <span className="soft">
        drag moves, Ctrl and wheel zooms, double click: the latest, Back: as before
      </span>
    </p>
  );
}
