import { Box } from "@mantine/core";
import { pathOf, washOf } from "../../charts/path";
import { ticks, tickWords } from "../../charts/ticks";
import { figure } from "../../parts/words";
import type { Line } from "./words";

const W = 1000;
const H = 300;
/** So many usual steps without a sample are a gap. */
const GAP = 3;
const STROKE = {
  fill: "none",
  stroke: "var(--ink)",
  strokeWidth: 1.3,
  vectorEffect: "non-scaling-stroke",
} as const;

/** A stretch of a stream: band, expectation, what was seen, and what was found, drawn to fill its pane. */
export function Lines({
  line,
  ahead,
}: {
  line: Line;
  ahead?: Pick<Line, "time" | "expected" | "lower" | "upper">;
}) {
  const time = [...line.time, ...(ahead?.time ?? [])];
  const expected = [...(line.expected ?? line.time.map(() => null)), ...(ahead?.expected ?? [])];
  const lower = [...(line.lower ?? line.time.map(() => null)), ...(ahead?.lower ?? [])];
  const upper = [...(line.upper ?? line.time.map(() => null)), ...(ahead?.upper ?? [])];
  const all = [...line.value, ...lower, ...upper].filter((v): v is number => v !== null && v !== undefined);
  const from = time[0];
  const to = time[time.length - 1];
  if (from === undefined || to === undefined || !all.length) return <p className="soft">No samples yet.</p>;
  const low = Math.min(...all);
  const high = Math.max(...all);
  const x = (t: number) => ((t - from) / (to - from || 1)) * W;
  const y = (v: number) => H - 4 - ((v - low) / (high - low || 1)) * (H - 8);
  // A line over a gap would say what nobody saw.
  const steps = time.slice(1).map((t, i) => t - (time[i] ?? t));
  const usual = [...steps].sort((a, b) => a - b)[Math.floor(steps.length / 2)] ?? 0;
  const at = (i: number) => x(time[i] ?? 0);
  const path = (values: (number | null | undefined)[]) =>
    pathOf(values, at, y, (i) => (steps[i - 1] ?? 0) > GAP * usual);
  const found = new Set(line.found ?? []);
  const marks = ticks(from, to, line.zone, 4);
  const words = tickWords(line.zone);
  return (
    <Box pos="relative" flex={1} miw={0} p="0 0 18px 46px" className="board-chart">
      <svg
        className="fill"
        viewBox={`0 0 ${W} ${H}`}
        preserveAspectRatio="none"
        role="img"
        aria-label={`${line.title}, ${line.unit || "value"}`}
      >
        <path fill="var(--band)" d={washOf(lower, upper, at, y)} />
        <path {...STROKE} stroke="var(--line)" strokeDasharray="4 4" d={path(expected)} />
        <path {...STROKE} d={path(line.value)} />
        <path
          {...STROKE}
          stroke="var(--above)"
          strokeWidth={3}
          d={path(line.value.map((v, i) => (found.has(i) ? v : null)))}
        />
        {ahead && <path {...STROKE} strokeWidth={1} d={`M${x(line.time.at(-1) ?? to)} 0V${H}`} />}
      </svg>
      <Box component="span" pos="absolute" left={0} w={40} fz={12} top={0} className="soft right figure">
        {figure(high)}
      </Box>
      <Box component="span" pos="absolute" left={0} w={40} fz={12} bottom={18} className="soft right figure">
        {figure(low)}
      </Box>
      <Box pos="absolute" left={46} right={0} bottom={0} h={16} className="clips">
        {marks.at.map((t) => (
          <Box
            component="span"
            key={t}
            pos="absolute"
            fz={12}
            className="soft figure nowrap"
            style={{ left: `${(100 * (t - from)) / (to - from || 1)}%`, transform: "translateX(-50%)" }}
          >
            {words(t, marks.step)}
          </Box>
        ))}
      </Box>
    </Box>
  );
}
