import { Box, Group } from "@mantine/core";
import { useMemo, useState } from "react";
import type { Schema } from "../../api/client";
import { pathOf } from "../../charts/path";
import { day, digitsFor, figure, hours, plural, weekdayOf } from "../../parts/words";
import { shownZone } from "../../parts/zones";
import type { StreamFacts } from "./types";

const WIDE = 1000;
const TALL = 190;
const DAY = 86_400_000;
const LINES = 4;

type FoldData = Schema["Fold"];

/** A scale of round figures over the values: where each line lies, and its value. */
export function scaleOf(low: number, high: number): number[] {
  const rough = (high - low || Math.abs(high) || 1) / LINES;
  const power = 10 ** Math.floor(Math.log10(rough));
  const step = ([5, 2, 1].find((m) => m * power <= rough) ?? 1) * power;
  const found: number[] = [];
  for (let k = Math.ceil(low / step); k * step <= high + step * 1e-9; k++)
    found.push(Number((k * step).toPrecision(12)));
  return found;
}

/** The seasons as lines over one axis, with what lies under the pointer or the arrow keys in words. */
export function FoldPicture({ fold, stream }: { fold: FoldData; stream: StreamFacts }) {
  const { cycles, starts, expected } = fold;
  const [slot, setSlot] = useState<number | null>(null);
  const all = useMemo(() => cycles.flat().filter((v): v is number => v !== null), [cycles]);
  const digits = useMemo(() => digitsFor(all), [all]);
  if (!all.length) return <p className="soft small">Nothing was observed in these seasons.</p>;
  const low = all.reduce((a, b) => Math.min(a, b));
  const high = all.reduce((a, b) => Math.max(a, b));
  const slots = expected.length;
  const x = (i: number) => (i / Math.max(1, slots - 1)) * WIDE;
  const y = (v: number) => 4 + (1 - (v - low) / (high - low || 1)) * (TALL - 8);
  const period = fold.hours * 3_600_000;
  const own = starts.length - 1;
  const zone = fold.clock === "local" ? stream.zone : "UTC";
  const weekday = (i: number) => weekdayOf(starts[i] ?? 0, zone);
  const isAlike = (i: number) => period === DAY && i !== own && weekday(i) === weekday(own);
  const alike = cycles.filter((_, i) => isAlike(i)).length;
  const move = (by: number) => setSlot(Math.min(slots - 1, Math.max(0, (slot ?? 0) + by)));
  const names = `${cycles.length} seasons of ${hours(fold.hours)} over one another, ${figure(low, digits)} to ${figure(high, digits)} ${stream.unit}`;
  return (
    <figure>
      <Box ml={56} pos="relative">
        <div aria-hidden="true">
          {scaleOf(low, high).map((v) => (
            <Box
              component="span"
              key={v}
              pos="absolute"
              right="calc(100% + 8px)"
              mt={-9}
              fz={12}
              className="soft figure"
              style={{ top: y(v) }}
            >
              {v.toLocaleString("en-GB", { maximumFractionDigits: 6 }).replace("-", "−")}
            </Box>
          ))}
        </div>
        <svg
          className="fill"
          height={TALL}
          viewBox={`0 0 ${WIDE} ${TALL}`}
          preserveAspectRatio="none"
          role="img"
          aria-label={`${names}; arrow keys read it out`}
          // biome-ignore lint/a11y/noNoninteractiveTabindex: the arrow keys read it out
          tabIndex={0}
          onPointerMove={(e) => {
            const box = e.currentTarget.getBoundingClientRect();
            setSlot(Math.round(((e.clientX - box.left) / box.width) * (slots - 1)));
          }}
          onPointerLeave={() => setSlot(null)}
          onKeyDown={(e) => {
            const by = { ArrowLeft: -1, ArrowRight: 1, PageUp: -10, PageDown: 10 }[e.key];
            if (by === undefined) return;
            e.preventDefault();
            e.stopPropagation();
            move(by);
          }}
        >
          {scaleOf(low, high).map((v) => (
            <path key={v} d={`M0 ${y(v)}H${WIDE}`} stroke="var(--hair)" vectorEffect="non-scaling-stroke" />
          ))}
          {cycles.map((c, i) => (
            <path
              key={starts[i]}
              d={pathOf(c, x, y)}
              fill="none"
              vectorEffect="non-scaling-stroke"
              stroke={i === own ? "var(--ink)" : "var(--line)"}
              strokeWidth={i === own ? 2 : isAlike(i) ? 1.4 : 1}
              opacity={i === own ? 1 : isAlike(i) ? 0.8 : 0.28}
            />
          ))}
          <path
            d={pathOf(expected, x, y)}
            fill="none"
            vectorEffect="non-scaling-stroke"
            stroke="var(--shift)"
            strokeWidth="2"
            strokeDasharray="6 4"
          />
          {slot !== null && (
            <path d={`M${x(slot)} 0V${TALL}`} stroke="var(--ink)" vectorEffect="non-scaling-stroke" />
          )}
        </svg>
      </Box>
      <Group ml={56} justify="space-between" gap={0} fz={12} className="soft figure" aria-hidden="true">
        {[0, 1, 2, 3, 4].map((k) => (
          <span key={k}>{slotWords(fold, (k / 4) * period)}</span>
        ))}
      </Group>
      <Box component="p" m="2px 0 0 56px" className="small figure" role="status">
        {slot === null
          ? " "
          : slotReading(fold, slot, own, (v) => `${figure(v, digits)} ${stream.unit}`.trim())}
      </Box>
      <Box component="figcaption" ml={56} className="soft small">
        Strong: the season from {day(starts[own] ?? 0, zone)}
        {alike > 0 && `; less pale: ${plural(alike, "other")} of its weekday`}; broken, ochre: what was
        expected of it. {fold.clock === "local" ? `By the clock of ${shownZone(stream.zone)}.` : "In UTC."}
      </Box>
    </figure>
  );
}

/** One slot in words: this season, what was expected of it, and the least, middle and most of the others. */
export function slotReading(
  fold: FoldData,
  slot: number,
  own: number,
  words: (v: number | null) => string,
): string {
  const others = fold.cycles
    .filter((_, i) => i !== own)
    .map((c) => c[slot] ?? null)
    .filter((v): v is number => v !== null)
    .sort((a, b) => a - b);
  const middle = others[Math.floor((others.length - 1) / 2)] ?? null;
  const rest = others.length
    ? `; ${plural(others.length, "other")} ${words(others[0] ?? null)} to ${words(others.at(-1) ?? null)}, middle ${words(middle)}`
    : "";
  const at = slotWords(fold, slot * fold.step_s * 1000);
  return `${at}: ${words(fold.cycles[own]?.[slot] ?? null)}, expected ${words(fold.expected[slot] ?? null)}${rest}`;
}

/** A place within a season: the time of day in a day, the weekday in a week, else how long since it began. */
export function slotWords(fold: Pick<FoldData, "hours">, ms: number): string {
  if (fold.hours === 24) return ms >= DAY ? "24:00" : new Date(ms).toISOString().slice(11, 16);
  if (fold.hours === 168) {
    const names = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun", "Mon"];
    const rest = ms % DAY;
    return `${names[Math.floor(ms / DAY)] ?? ""}${rest ? ` ${new Date(rest).toISOString().slice(11, 16)}` : ""}`;
  }
  return `+${hours(Number((ms / 3_600_000).toFixed(2)))}`;
}
