import type uPlot from "uplot";
import { edgeAt } from "./band";
import type { Palette } from "./palette";
import type { Drawn, DrawnFinding } from "./shapes";

export interface Levels {
  above: number | null;
  below: number | null;
}

/** Pixels of the screen for one of the page. */
export const ratio = () => devicePixelRatio || 1;

/** The first and the last place in sight, with one more on each side: what lies beyond need not be drawn. */
function inSight(u: uPlot, time: number[]): [number, number] {
  const first = firstFrom(time, u.scales.x?.min ?? 0) - 1;
  const last = firstFrom(time, u.scales.x?.max ?? 0) + 1;
  return [Math.max(first, 0), Math.min(last, time.length - 1)];
}

/** A wash between two edges, parted where one of them is missing; of samples in one column of pixels the outermost edges. */
export function drawWash(
  u: uPlot,
  colours: Palette,
  time: number[],
  lower: (i: number) => number | null | undefined,
  upper: (i: number) => number | null | undefined,
): void {
  const pen = u.ctx;
  pen.fillStyle = colours.band;
  // A logarithm has no place for 0: the wash goes down to the edge.
  const least = u.scales.y?.distr === 3 ? (u.scales.y.min ?? 0) : Number.NEGATIVE_INFINITY;
  const y = (value: number) => u.valToPos(Math.max(value, least), "y", true);
  let run: { x: number; low: number; high: number }[] = [];
  const flush = () => {
    const [only, second] = run;
    if (only && !second) pen.fillRect(only.x, y(only.high), ratio(), y(only.low) - y(only.high));
    else if (run.length) {
      pen.beginPath();
      for (const { x, high } of run) pen.lineTo(x, y(high));
      for (const { x, low } of run.reverse()) pen.lineTo(x, y(low));
      pen.fill();
    }
    run = [];
  };
  const [first, until] = inSight(u, time);
  for (let i = first; i <= until; i++) {
    const [low, high] = [lower(i), upper(i)];
    if (low === null || low === undefined || high === null || high === undefined) {
      flush();
      continue;
    }
    const x = u.valToPos(time[i] ?? 0, "x", true);
    const last = run.at(-1);
    if (last && Math.floor(last.x) === Math.floor(x)) {
      last.low = Math.min(last.low, low);
      last.high = Math.max(last.high, high);
    } else run.push({ x, low, high });
  }
  flush();
}

/** The wash between the values at which the levels are reached; a side that is not watched takes the other's level. */
export function drawBand(u: uPlot, colours: Palette, w: Drawn, levels: Levels): void {
  const upper = levels.above ?? levels.below ?? 0;
  const lower = levels.below ?? levels.above ?? 0;
  drawWash(
    u,
    colours,
    w.time,
    (i) => edgeAt(w, i, -1, lower),
    (i) => edgeAt(w, i, 1, upper),
  );
}

/** Which side a score flags at these levels: 1 above, -1 below, 0 neither. */
export function sideOf(score: number | null | undefined, levels: Levels): number {
  if (score === null || score === undefined) return 0;
  if (levels.above !== null && score >= levels.above) return 1;
  if (levels.below !== null && score <= -levels.below) return -1;
  return 0;
}

/** The place nearest to a moment, null where there is none. */
export function nearest(time: number[], moment: number): number | null {
  if (!time.length) return null;
  const after = Math.min(firstFrom(time, moment), time.length - 1);
  const isBefore = after > 0 && moment - (time[after - 1] ?? 0) < (time[after] ?? 0) - moment;
  return isBefore ? after - 1 : after;
}

/** The first place at or after a moment. */
function firstFrom(time: number[], moment: number): number {
  let low = 0;
  let high = time.length;
  while (low < high) {
    const middle = (low + high) >> 1;
    if ((time[middle] ?? 0) < moment) low = middle + 1;
    else high = middle;
  }
  return low;
}

/** Flagged runs drawn strongly over the line, in the colour of their side. */
export function drawFlags(
  u: uPlot,
  colours: Palette,
  w: Drawn,
  y: (i: number) => number | null,
  levels: Levels,
): void {
  const pen = u.ctx;
  const { time, score = [] } = w;
  // A burst, a stuck value, an odd shape: neither above nor below. Inside a finding its own side holds for all of it.
  const odd = new Set(w.odd);
  for (const f of w.findings ?? []) {
    if (f.kind !== "outlier") continue;
    for (let i = firstFrom(time, f.start); i < time.length && (time[i] ?? 0) <= f.end; i++) {
      if (f.direction === "") odd.add(i);
      else odd.delete(i);
    }
  }
  pen.lineJoin = "round";
  const [first, until] = inSight(u, time);
  for (let i = first; i <= until; i++) {
    const side = sideOf(score[i], levels);
    const here = y(i);
    if (!side || here === null) continue;
    pen.strokeStyle = pen.fillStyle = odd.has(i) ? colours.ink : side > 0 ? colours.above : colours.below;
    // What has no side is in the colour of the line itself, and thicker.
    pen.lineWidth = (odd.has(i) ? 5 : 2.4) * ratio();
    const px = u.valToPos(time[i] ?? 0, "x", true);
    const py = u.valToPos(here, "y", true);
    const before = i > 0 ? y(i - 1) : null;
    if (before !== null && sideOf(score[i - 1], levels) === side) {
      pen.beginPath();
      pen.moveTo(u.valToPos(time[i - 1] ?? 0, "x", true), u.valToPos(before, "y", true));
      pen.lineTo(px, py);
      pen.stroke();
    } else {
      pen.beginPath();
      pen.arc(px, py, 2 * ratio(), 0, 7);
      pen.fill();
    }
  }
}

/** Stretches without samples, hatched. */
export function drawGaps(u: uPlot, colours: Palette, w: Drawn): void {
  const { time, value } = w;
  const pen = u.ctx;
  const { top, height } = u.bbox;
  pen.strokeStyle = colours.line;
  pen.lineWidth = ratio();
  let start: number | null = null;
  const [first, until] = inSight(u, time);
  for (let i = first; i <= until + 1; i++) {
    const isGap = i <= until && value[i] === null;
    if (isGap && start === null) start = i;
    if (!isGap && start !== null) {
      const a = u.valToPos(time[Math.max(0, start - 1)] ?? 0, "x", true);
      const b = u.valToPos(time[Math.min(i, time.length - 1)] ?? 0, "x", true);
      pen.save();
      pen.beginPath();
      pen.rect(a, top, b - a, height);
      pen.clip();
      pen.globalAlpha = 0.5;
      for (let x = a - height; x < b; x += 9 * ratio()) {
        pen.beginPath();
        pen.moveTo(x, top + height);
        pen.lineTo(x + height, top);
        pen.stroke();
      }
      pen.restore();
      start = null;
    }
  }
}

/** Samples that were not judged, as in the training of a replay: dots along the bottom edge. */
export function drawUnjudged(u: uPlot, colours: Palette, w: Drawn): void {
  const { time, value, score } = w;
  if (!score) return;
  const pen = u.ctx;
  const k = ratio();
  const y = u.bbox.top + u.bbox.height - 4 * k;
  pen.strokeStyle = colours.soft;
  pen.lineWidth = 2 * k;
  pen.setLineDash([2 * k, 4 * k]);
  pen.beginPath();
  const [first, until] = inSight(u, time);
  for (let i = Math.max(first, 1); i <= until; i++) {
    if (!isUnjudged(value[i], score[i]) || !isUnjudged(value[i - 1], score[i - 1])) continue;
    pen.moveTo(u.valToPos(time[i - 1] ?? 0, "x", true), y);
    pen.lineTo(u.valToPos(time[i] ?? 0, "x", true), y);
  }
  pen.stroke();
  pen.setLineDash([]);
}

/** Seen, and without a score. */
export function isUnjudged(value: number | null | undefined, score: number | null | undefined): boolean {
  return value !== null && value !== undefined && (score === null || score === undefined);
}

/** A pinned moment, as an upright line. */
export function drawPin(u: uPlot, colours: Palette, moment: number | null): void {
  if (moment === null) return;
  const pen = u.ctx;
  const { top, height } = u.bbox;
  const x = u.valToPos(moment, "x", true);
  pen.strokeStyle = colours.ink;
  pen.lineWidth = 1.2 * ratio();
  pen.setLineDash([6 * ratio(), 3 * ratio()]);
  pen.beginPath();
  pen.moveTo(x, top);
  pen.lineTo(x, top + height);
  pen.stroke();
  pen.setLineDash([]);
}

/** Pennants of findings along the top, stepped ticks of shifts, and a wash over the chosen one. */
export function drawFindings(
  u: uPlot,
  colours: Palette,
  findings: DrawnFinding[],
  chosen: number | null,
  badSide: string,
): void {
  const pen = u.ctx;
  const { top, height } = u.bbox;
  const k = ratio();
  for (const f of findings) {
    const a = u.valToPos(f.start, "x", true);
    const b = Math.max(u.valToPos(f.end, "x", true), a + 2 * k);
    const colour =
      f.kind === "shift"
        ? colours.shift
        : f.direction === ""
          ? colours.ink
          : f.direction === "below"
            ? colours.below
            : colours.above;
    pen.strokeStyle = pen.fillStyle = colour;
    pen.lineWidth = 1.4 * k;
    if (f.id === chosen) {
      pen.globalAlpha = 0.13;
      pen.fillRect(a, top, b - a, height);
      pen.globalAlpha = 1;
    }
    if (f.kind === "shift") {
      const up = f.direction === "up";
      pen.setLineDash([3 * k, 3 * k]);
      pen.beginPath();
      pen.moveTo(a, top + 16 * k);
      pen.lineTo(a, top + height);
      pen.stroke();
      pen.setLineDash([]);
      pen.beginPath();
      pen.moveTo(a - 7 * k, top + (up ? 13 : 4) * k);
      pen.lineTo(a, top + (up ? 13 : 4) * k);
      pen.lineTo(a, top + (up ? 4 : 13) * k);
      pen.lineTo(a + 7 * k, top + (up ? 4 : 13) * k);
      pen.lineWidth = 2 * k;
      pen.stroke();
      continue;
    }
    const bad = badSide === "both" || f.direction === "" || f.direction === badSide;
    const up = f.direction !== "below";
    if (f.direction === "") {
      // Without a side: a diamond, which points nowhere.
      pen.beginPath();
      pen.moveTo(a, top + 2 * k);
      pen.lineTo(a + 5 * k, top + 8 * k);
      pen.lineTo(a, top + 14 * k);
      pen.lineTo(a - 5 * k, top + 8 * k);
    } else {
      pen.beginPath();
      pen.moveTo(a, top + 1 * k);
      pen.lineTo(a, top + 15 * k);
      pen.stroke();
      pen.beginPath();
      const base = up ? top + 1 * k : top + 8 * k;
      pen.moveTo(a, base);
      pen.lineTo(a + 9 * k, base + 3.5 * k);
      pen.lineTo(a, base + 7 * k);
    }
    pen.closePath();
    // A verdict closes a finding: its pennant is drawn pale.
    pen.globalAlpha = f.verdict ? 0.45 : 1;
    if (bad) pen.fill();
    else pen.stroke();
    pen.globalAlpha = 1;
    pen.fillRect(a, top + 16 * k, b - a, 3 * k);
  }
}

/** Entries of a logbook in the order they are drawn: reviewed spans lie behind the others. */
export function laneEntries<E extends { verdict: string }>(entries: E[]): E[] {
  return [...entries].sort((a, b) => Number(b.verdict === "reviewed") - Number(a.verdict === "reviewed"));
}

/** Least and greatest of what is there, or null where nothing is. */
export function endsOf(values: (number | null)[]): [number, number] | null {
  const seen = values.filter((v): v is number => v !== null);
  if (!seen.length) return null;
  return [seen.reduce((a, b) => Math.min(a, b)), seen.reduce((a, b) => Math.max(a, b))];
}

/** How streams laid over the first one differ: by dash, never by colour alone. */
export const OVERLAY_DASHES = [
  [7, 3],
  [2, 3],
  [9, 3, 2, 3],
  [1, 5],
];

/** Another stream's line over this one's: on this one's scale, or on its own, filling the height. */
export function drawOverlay(
  u: uPlot,
  colours: Palette,
  w: Pick<Drawn, "time" | "value">,
  dash: number[],
  isCommon: boolean,
): void {
  const { left, width, top, height } = u.bbox;
  const first = firstFrom(w.time, u.posToVal(0, "x"));
  const last = firstFrom(w.time, u.posToVal(width / ratio(), "x"));
  const ends = endsOf(w.value.slice(first, last));
  if (!ends) return;
  const [low, high] = ends;
  const y = (v: number) =>
    isCommon ? u.valToPos(v, "y", true) : top + height * (0.94 - (0.88 * (v - low)) / (high - low || 1));
  const pen = u.ctx;
  pen.strokeStyle = colours.line;
  pen.lineWidth = 1.3 * ratio();
  pen.setLineDash(dash.map((d) => d * ratio()));
  pen.beginPath();
  let isDown = false;
  for (let i = first; i < last; i++) {
    const v = w.value[i];
    if (v === null || v === undefined) {
      isDown = false;
      continue;
    }
    const x = u.valToPos(w.time[i] ?? 0, "x", true);
    if (x < left - 2 || x > left + width + 2) continue;
    if (isDown) pen.lineTo(x, y(v));
    else pen.moveTo(x, y(v));
    isDown = true;
  }
  pen.stroke();
  pen.setLineDash([]);
}

/** A span with its edges, as somebody has moved them; cut : where it is parted, or null. */
export function drawSpan(u: uPlot, colours: Palette, start: number, end: number, cut: number | null): void {
  const pen = u.ctx;
  const { top, height } = u.bbox;
  const k = ratio();
  const [a, b] = [u.valToPos(start, "x", true), u.valToPos(end, "x", true)];
  const until = cut === null ? b : u.valToPos(cut, "x", true);
  pen.fillStyle = pen.strokeStyle = colours.ink;
  pen.globalAlpha = 0.12;
  pen.fillRect(a, top, Math.max(until - a, 2 * k), height);
  pen.globalAlpha = 1;
  pen.lineWidth = 1.6 * k;
  for (const [x, dash] of [[a, []], [b, []], ...(cut === null ? [] : [[until, [4 * k, 3 * k]]])] as [
    number,
    number[],
  ][]) {
    pen.setLineDash(dash);
    pen.beginPath();
    pen.moveTo(x, top);
    pen.lineTo(x, top + height);
    pen.stroke();
  }
  pen.setLineDash([]);
}

/** How far apart figures beyond the scale stand, in pixels: of nearer ones the largest is written. */
const FIGURES_APART = 46;

/** Values beyond the top of a pane: an arrowhead at the edge with the true figure, so that no peak passes for a lower one. */
export function drawBeyond(
  u: uPlot,
  colours: Palette,
  time: number[],
  sizes: (number | null)[],
  top: number,
  words: (value: number) => string,
): void {
  const k = ratio();
  const peaks: { x: number; size: number }[] = [];
  const [first, until] = inSight(u, time);
  for (let i = first; i <= until; i++) {
    const size = sizes[i] ?? 0;
    if (size <= top) continue;
    const x = u.valToPos(time[i] ?? 0, "x", true);
    const last = peaks.at(-1);
    if (last && x - last.x < FIGURES_APART * k) {
      if (size > last.size) peaks[peaks.length - 1] = { x, size };
    } else peaks.push({ x, size });
  }
  const pen = u.ctx;
  const { top: edge, left, width } = u.bbox;
  pen.fillStyle = colours.ink;
  pen.font = `${11 * k}px sans-serif`;
  pen.textBaseline = "top";
  for (const { x, size } of peaks) {
    pen.beginPath();
    pen.moveTo(x, edge);
    pen.lineTo(x + 4 * k, edge + 6 * k);
    pen.lineTo(x - 4 * k, edge + 6 * k);
    pen.fill();
    const isAtEnd = x > left + width - 40 * k;
    pen.textAlign = isAtEnd ? "right" : "left";
    pen.fillText(words(size), x + (isAtEnd ? -6 : 6) * k, edge + k);
  }
}

/** The levels in force of both sides, where they differ: a broken line each, named at its end. */
export function drawLevels(u: uPlot, colours: Palette, levels: Levels): void {
  if (levels.above === null || levels.below === null || levels.above === levels.below) return;
  const k = ratio();
  const pen = u.ctx;
  const { left, width } = u.bbox;
  pen.font = `${11 * k}px sans-serif`;
  pen.textAlign = "left";
  pen.lineWidth = 1.2 * k;
  for (const [name, level, colour] of [
    ["above", levels.above, colours.above],
    ["below", levels.below, colours.below],
  ] as const) {
    const y = u.valToPos(level, "y", true);
    pen.strokeStyle = pen.fillStyle = colour;
    pen.setLineDash([5 * k, 4 * k]);
    pen.beginPath();
    pen.moveTo(left, y);
    pen.lineTo(left + width, y);
    pen.stroke();
    pen.setLineDash([]);
    const isUpper = level === Math.max(levels.above, levels.below);
    pen.textBaseline = isUpper ? "bottom" : "top";
    pen.fillText(`${name} ${level.toFixed(2)} σ`, left + 4 * k, y + (isUpper ? -2 : 2) * k);
  }
}
