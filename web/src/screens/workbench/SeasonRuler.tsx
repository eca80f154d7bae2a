import { Box } from "@mantine/core";
import { UNDER_PLOT } from "../../charts/paneOptions";
import type { Range } from "../../charts/TimePane";
import { offsetAt } from "../../charts/ticks";
import { hours } from "../../parts/words";

const DAY = 86_400_000;
/** A cell narrower than this share of the span is no mark but a smear. */
const LEAST_SHARE = 0.006;

/** Where the cycles of a season begin within a span: by the clocks for days and weeks, else counted from 1970. */
export function cyclesOf(hoursLong: number, range: Range, zone: string): number[] {
  const length = hoursLong * 3_600_000;
  const isCalendar = length % DAY === 0;
  const starts: number[] = [];
  // A week begins on Monday; 1970 began on a Thursday.
  const origin = length % (7 * DAY) === 0 ? 4 * DAY : 0;
  const shift = (ms: number) => (isCalendar ? offsetAt(ms, zone) : 0);
  const first = Math.floor((range[0] + shift(range[0]) - origin) / length);
  for (let k = first; starts.length < 2 / LEAST_SHARE; k++) {
    const wall = k * length + origin;
    const at = wall - shift(wall - shift(wall));
    if (at > range[1]) break;
    starts.push(at);
  }
  return starts;
}

/** One rule a season: its cycles in turn filled and open, so that the eye can count them. */
export function SeasonRuler({ hours: all, range, zone }: { hours: number[]; range: Range; zone: string }) {
  const span = range[1] - range[0];
  const shown = all.filter((h) => (h * 3_600_000) / span > LEAST_SHARE && h * 3_600_000 < 2 * span);
  if (!shown.length) return null;
  return (
    <Box
      {...UNDER_PLOT}
      mt={4}
      mb={16}
      className="ruler"
      role="img"
      aria-label={`Cycles of ${shown.map((h) => hours(h)).join(" and ")}`}
    >
      {shown.map((h) => {
        const length = h * 3_600_000;
        const x = (ms: number) => Math.min(100, Math.max(0, ((ms - range[0]) / span) * 100));
        const starts = cyclesOf(h, range, zone);
        return (
          <Box key={h} pos="relative" h={9} className="under">
            <Box
              component="span"
              pos="absolute"
              right="calc(100% + 6px)"
              top={-5}
              fz={11}
              className="soft nowrap"
            >
              {hours(h)}
            </Box>
            {starts.map((at, i) => {
              const end = starts[i + 1] ?? at + length;
              const isOdd = Math.round(at / length) % 2 === 1;
              return (
                <Box
                  key={at}
                  pos="absolute"
                  top={1}
                  bottom={1}
                  bg={isOdd ? "var(--line)" : "var(--wash)"}
                  className={isOdd ? "odd" : "even"}
                  style={{ left: `${x(at)}%`, width: `${x(end) - x(at)}%` }}
                />
              );
            })}
          </Box>
        );
      })}
    </Box>
  );
}
