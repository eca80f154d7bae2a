import uPlot from "uplot";
import { dayOf } from "../parts/words";
import { ratio } from "./drawing";
import type { Palette } from "./palette";
import type { Column, Line, Range } from "./shapes";
import { ticks } from "./ticks";

export interface PaneProps {
  time: number[];
  lines: Line[];
  range: Range;
  height: number;
  zone: string;
  label: string;
  /** Words of a round moment on the axis. */
  tickWords: (ms: number, step: number) => string;
  hasTimeAxis?: boolean;
  /** Fixed bounds of the vertical axis; otherwise what is in sight, with a margin. */
  bounds?: Range;
  /** A vertical axis by the logarithm; what is not above 0 is not drawn on it. */
  isLog?: boolean;
  onRange?: (range: Range) => void;
  /** A drag with Shift: a span to write something about. */
  onSpan?: (range: Range) => void;
  /** A click, by its moment and how much time a finger's width stands for. */
  onPick?: (moment: number, tolerance: number) => unknown;
  /** A double click. */
  onReset?: () => void;
  onCursor?: (index: number | null, left: number) => void;
  /** Drawn between the grid and the lines, and over the lines. */
  under?: (u: uPlot, colours: Palette) => void;
  over?: (u: uPlot, colours: Palette) => void;
  /** Anything whose change asks for a new drawing. */
  redrawOn?: unknown;
}

export const AXIS_WIDTH = 56;
/** Room on the right of the panes of the workbench. */
export const GUTTER = 108;
/** Margins of what stands under the plot itself. */
export const UNDER_PLOT = { ml: AXIS_WIDTH, mr: GUTTER } as const;
export const PAD_TOP = 8;
export const PAD_BOTTOM = 6;
const TIME_AXIS = 26;
/** The axis with the date under the first time of day, where nothing else in sight says it. */
const DATED_AXIS = 40;
/** How far apart samples lie that are drawn as points too, in pixels. */
const POINTS_APART = 14;
const HALF_A_TICK = 20;
const LOG_MARGIN = 1.15;
const SYNC = "watchtide";
const AXIS_FIGURES = new Intl.NumberFormat("en-GB", { maximumFractionDigits: 3 });

/** How a pane looks and what it does by itself. latest : its properties as they are; wasShift : whether the drag that marked a
 * span began with Shift down. */
export function optionsOf(
  latest: { current: PaneProps },
  element: HTMLElement,
  colours: Palette & { mono: string },
  wasShift: () => boolean,
): uPlot.Options {
  const now = latest.current;
  const font = `12px ${colours.mono}`;
  return {
    width: element.clientWidth,
    height: now.height,
    ms: 1,
    padding: [PAD_TOP, 0, now.hasTimeAxis === false ? PAD_BOTTOM : 0, 0],
    legend: { show: false },
    cursor: {
      sync: { key: SYNC, setSeries: false },
      drag: { x: true, y: false, setScale: false },
      bind: {
        // Marking is for Shift and Ctrl; a drag alone pans.
        mousedown: (_, __, handler) => (event) => {
          if (event.shiftKey || event.ctrlKey || event.metaKey) handler(event);
          return null;
        },
        dblclick: () => () => {
          latest.current.onReset?.();
          return null;
        },
      },
      points: { show: false },
    },
    scales: {
      x: { time: false, auto: false, range: () => latest.current.range },
      y: {
        distr: now.isLog ? 3 : 1,
        range: (_, low, high) => {
          const stated = latest.current.bounds;
          if (stated) return stated;
          if (low === null || high === null) return now.isLog ? [1, 10] : [0, 1];
          if (now.isLog) return [low / LOG_MARGIN, high * LOG_MARGIN];
          const margin = (high - low || Math.abs(high) || 1) * 0.09;
          return [low - margin, high + margin];
        },
      },
    },
    axes: [
      {
        show: now.hasTimeAxis !== false,
        size: () => timeAxis(latest.current),
        font,
        stroke: colours.soft,
        grid: { stroke: colours.hair, width: 1 },
        ticks: { stroke: colours.line, width: 1, size: 5 },
        splits: (u) => ticks(...latest.current.range, latest.current.zone, Math.max(3, u.width / 62)).at,
        values: (u, at) => {
          // Words that the edge would cut are left out.
          const room = u.bbox.width / ratio() - HALF_A_TICK;
          const hasRoom = (t: number) => u.valToPos(t, "x") < room;
          const { range, zone, tickWords } = latest.current;
          const { step } = ticks(...range, zone, Math.max(3, u.width / 62));
          const words = at.map((t) => (hasRoom(t) ? tickWords(t, step) : ""));
          const date = at[0] === undefined ? "" : dayOf(at[0], zone);
          if (hasOwnDate(range) && words[0] !== date) words[0] += `\n${date}`;
          return words;
        },
      },
      {
        size: AXIS_WIDTH,
        font,
        stroke: colours.soft,
        grid: { stroke: colours.hair, width: 1 },
        ticks: { show: false },
        values: (_, at) =>
          // On a logarithmic axis only some of the lines have words.
          at.map((v) =>
            v === null || (now.isLog && !isRound(v)) ? "" : AXIS_FIGURES.format(v).replace("-", "−"),
          ),
      },
    ],
    series: [
      {},
      ...now.lines.map((l) => ({
        stroke: colours[l.stroke],
        width: l.width ?? 1.2,
        dash: l.dash,
        paths: l.isStep ? uPlot.paths.stepped?.({ align: 1 }) : undefined,
        points: l.hasPoints ? points(colours[l.stroke]) : { show: false },
        spanGaps: false,
      })),
    ],
    hooks: {
      drawAxes: [(u) => clipped(u, () => latest.current.under?.(u, colours))],
      draw: [(u) => clipped(u, () => latest.current.over?.(u, colours))],
      setCursor: [(u) => latest.current.onCursor?.(u.cursor.idx ?? null, u.cursor.left ?? -1)],
      setSelect: [
        (u) => {
          if (u.select.width < 6) return;
          const from = u.posToVal(u.select.left, "x");
          const to = u.posToVal(u.select.left + u.select.width, "x");
          u.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false);
          const { onSpan, onRange } = latest.current;
          (wasShift() && onSpan ? onSpan : onRange)?.([from, to]);
        },
      ],
    },
  };
}

/** 1, 2 or 5 times a power of ten. */
const isRound = (v: number) =>
  [1, 2, 5].includes(Number((v / 10 ** Math.floor(Math.log10(v))).toPrecision(6)));

/** What is drawn: on a logarithmic axis nothing that has no logarithm. */
export function columns({
  time,
  lines,
  isLog,
}: Pick<PaneProps, "time" | "lines" | "isLog">): uPlot.AlignedData {
  const drawn = (data: Column) => (isLog ? data.map((v) => (v !== null && v > 0 ? v : null)) : data);
  return [time, ...lines.map((l) => drawn(l.data))] as uPlot.AlignedData;
}

const HOURS = 3_600_000;
/** Within two days no tick need fall on a midnight, whose words would be the date. */
const hasOwnDate = ([from, to]: Range) => to - from < 48 * HOURS;

/** How high the axis of times is, in pixels. */
export function timeAxis({ hasTimeAxis, range }: Pick<PaneProps, "hasTimeAxis" | "range">): number {
  if (hasTimeAxis === false) return TIME_AXIS;
  return hasOwnDate(range) ? DATED_AXIS : TIME_AXIS;
}

/** Points of all samples where they lie far enough apart, else of those alone between gaps. */
function points(colour: string): uPlot.Series.Points {
  return {
    size: 5,
    fill: colour,
    width: 0,
    show: (u, series, first, last) => {
      const room = u.bbox.width / ratio() / POINTS_APART;
      return last - first < room || alone(u.data[series] ?? [], first, last).length > 0;
    },
    filter: (u, series) => {
      const [first, last] = u.series[series]?.idxs ?? [0, 0];
      if (last - first < u.bbox.width / ratio() / POINTS_APART) return null;
      return alone(u.data[series] ?? [], first, last);
    },
  };
}

/** Places of samples with none on either side. */
export function alone(data: ArrayLike<number | null | undefined>, first: number, last: number): number[] {
  const found: number[] = [];
  const isMissing = (i: number) => data[i] === null || data[i] === undefined;
  for (let i = first; i <= last; i++)
    if (!isMissing(i) && isMissing(i - 1) && isMissing(i + 1)) found.push(i);
  return found;
}

function clipped(u: uPlot, draw: () => void): void {
  const { left, top, width, height } = u.bbox;
  u.ctx.save();
  u.ctx.beginPath();
  u.ctx.rect(left, top, width, height);
  u.ctx.clip();
  draw();
  u.ctx.restore();
}
