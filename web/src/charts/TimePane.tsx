import { useEffect, useRef } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import { dayOf } from "../parts/words";
import { ratio } from "./drawing";
import { type Palette, palette, usePalette } from "./palette";
import { ticks } from "./ticks";

export type Range = [number, number];
export type Column = (number | null)[];

export interface Line {
  data: Column;
  stroke: keyof Palette;
  width?: number;
  dash?: number[];
  /** Each value holds until the next one: counts and states, not what moves between samples. */
  isStep?: boolean;
  /** Samples as points where there is room, and alone between gaps, where no line could show them. */
  hasPoints?: boolean;
}

interface Props {
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
/** How far a wheel zooms: a notch of a mouse by about a quarter, a touchpad by its own small deltas. */
const WHEEL = 0.002;
const LINE = 16;
/** A press that moves less is a click. */
const LEAST_DRAG = 4;

const FINGER = 8;

/**
 * One pane of a stack on a common time axis, with a linked cursor. A drag pans, with Ctrl it marks a span to zoom to and
 * with Shift one to write about; the wheel zooms with Ctrl and else scrolls the page; a double click resets.
 */
export function TimePane(props: Props) {
  const box = useRef<HTMLDivElement>(null);
  const chart = useRef<uPlot | null>(null);
  const latest = useRef(props);
  latest.current = props;
  const scheme = usePalette();
  const shape = props.lines.map((l) => `${l.stroke}${l.width ?? ""}${l.dash ?? ""}${l.isStep}`).join();

  // biome-ignore lint/correctness/useExhaustiveDependencies: the chart is made anew only when its shape or colours change; data and range follow below
  useEffect(() => {
    const element = box.current;
    if (!element) return;
    const now = latest.current;
    const colours = palette(element);
    let isShift = false;
    const font = `12px ${getComputedStyle(element).getPropertyValue("--mono")}`;
    const made = new uPlot(
      {
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
              const hasRoom = (t: number) => u.valToPos(t, "x") < u.over.clientWidth - HALF_A_TICK;
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
                v === null || (now.isLog && !isRound(v))
                  ? ""
                  : v.toLocaleString("en-GB", { maximumFractionDigits: 3 }).replace("-", "−"),
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
              (isShift && onSpan ? onSpan : onRange)?.([from, to]);
            },
          ],
        },
      },
      columns(now),
      element,
    );
    chart.current = made;
    const zoom = (factor: number, x: number) => {
      const [from, to] = latest.current.range;
      const here = made.posToVal(x - made.over.getBoundingClientRect().left, "x");
      latest.current.onRange?.([here - (here - from) * factor, here + (to - here) * factor]);
    };
    const pan = (from: Range, by: number) => {
      const shift = (by / made.over.clientWidth) * (from[1] - from[0]);
      latest.current.onRange?.([from[0] - shift, from[1] - shift]);
    };
    const wheel = (event: WheelEvent) => {
      const lines = event.deltaMode === WheelEvent.DOM_DELTA_LINE ? LINE : 1;
      if (event.ctrlKey || event.metaKey) zoom(Math.exp(event.deltaY * lines * WHEEL), event.clientX);
      else if (Math.abs(event.deltaX) > Math.abs(event.deltaY))
        pan(latest.current.range, -event.deltaX * lines);
      else return;
      event.preventDefault();
    };
    made.over.addEventListener("wheel", wheel, { passive: false });
    const unpan = panning(made.over, {
      range: () => latest.current.range,
      pan,
      pick: (x) => {
        const here = made.posToVal(x - made.over.getBoundingClientRect().left, "x");
        const [from, to] = latest.current.range;
        latest.current.onPick?.(here, (FINGER * (to - from)) / made.over.clientWidth);
      },
    });
    made.over.addEventListener("mousedown", (event) => {
      isShift = event.shiftKey;
    });
    const unpinch = pinching(made.over, zoom);
    const watch = new ResizeObserver(() =>
      made.setSize({ width: element.clientWidth, height: latest.current.height }),
    );
    watch.observe(element);
    return () => {
      watch.disconnect();
      unpinch();
      unpan();
      made.destroy();
      chart.current = null;
    };
  }, [shape, scheme, props.height, props.hasTimeAxis, props.isLog]);

  useEffect(() => {
    chart.current?.setData(columns({ time: props.time, lines: props.lines, isLog: props.isLog }), false);
    chart.current?.setScale("x", { min: props.range[0], max: props.range[1] });
  }, [props.time, props.lines, props.range, props.isLog]);

  // biome-ignore lint/correctness/useExhaustiveDependencies: redrawOn says when
  useEffect(() => chart.current?.redraw(false, true), [props.redrawOn]);

  return (
    <div ref={box} role="img" aria-label={props.label} style={{ width: "100%", height: props.height }} />
  );
}

/** 1, 2 or 5 times a power of ten. */
const isRound = (v: number) =>
  [1, 2, 5].includes(Number((v / 10 ** Math.floor(Math.log10(v))).toPrecision(6)));

/** What is drawn: on a logarithmic axis nothing that has no logarithm. */
function columns({ time, lines, isLog }: Pick<Props, "time" | "lines" | "isLog">): uPlot.AlignedData {
  const drawn = (data: Column) => (isLog ? data.map((v) => (v !== null && v > 0 ? v : null)) : data);
  return [time, ...lines.map((l) => drawn(l.data))] as uPlot.AlignedData;
}

const HOURS = 3_600_000;
/** Within two days no tick need fall on a midnight, whose words would be the date. */
const hasOwnDate = ([from, to]: Range) => to - from < 48 * HOURS;

/** How high the axis of times is, in pixels. */
export function timeAxis({ hasTimeAxis, range }: Pick<Props, "hasTimeAxis" | "range">): number {
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

interface Panning {
  range: () => Range;
  pan: (from: Range, by: number) => void;
  pick: (x: number) => void;
}

/** One finger, or the mouse without a key: a drag moves what is in sight, a press that goes nowhere picks. */
function panning(element: HTMLElement, { range, pan, pick }: Panning): () => void {
  let press: { id: number; x: number; from: Range; isMoving: boolean } | null = null;
  const down = (e: PointerEvent) => {
    if (e.button !== 0 || e.shiftKey || e.ctrlKey || e.metaKey) return;
    // A second finger is for pinching.
    press = press ? null : { id: e.pointerId, x: e.clientX, from: range(), isMoving: false };
  };
  const move = (e: PointerEvent) => {
    if (press?.id !== e.pointerId) return;
    const by = e.clientX - press.x;
    if (!press.isMoving && Math.abs(by) < LEAST_DRAG) return;
    if (!press.isMoving) element.setPointerCapture(e.pointerId);
    press.isMoving = true;
    pan(press.from, by);
  };
  const up = (e: PointerEvent) => {
    if (press?.id === e.pointerId && !press.isMoving && e.type === "pointerup") pick(e.clientX);
    press = null;
  };
  return listening(element, { pointerdown: down, pointermove: move, pointerup: up, pointercancel: up });
}

function listening(element: HTMLElement, listeners: Record<string, (e: PointerEvent) => void>): () => void {
  for (const [name, listener] of Object.entries(listeners))
    element.addEventListener(name, listener as EventListener);
  return () => {
    for (const [name, listener] of Object.entries(listeners))
      element.removeEventListener(name, listener as EventListener);
  };
}

/** Two fingers on an element: by which factor the span between them stands for more, and about where. */
export function pinching(element: HTMLElement, onPinch: (factor: number, x: number) => void): () => void {
  const fingers = new Map<number, number>();
  let apart = 0;
  const spread = () => {
    const [a = 0, b = 0] = fingers.values();
    return Math.max(Math.abs(a - b), 12);
  };
  const down = (e: PointerEvent) => {
    if (e.pointerType !== "touch") return;
    fingers.set(e.pointerId, e.clientX);
    if (fingers.size === 2) apart = spread();
  };
  const move = (e: PointerEvent) => {
    if (!fingers.has(e.pointerId)) return;
    fingers.set(e.pointerId, e.clientX);
    if (fingers.size !== 2) return;
    const now = spread();
    const [a = 0, b = 0] = fingers.values();
    if (Math.abs(now - apart) < 2) return;
    onPinch(apart / now, (a + b) / 2);
    apart = now;
  };
  const up = (e: PointerEvent) => fingers.delete(e.pointerId);
  // Up and down still scroll the page; two fingers are ours.
  element.style.touchAction = "pan-y";
  return listening(element, {
    pointerdown: down,
    pointermove: move,
    pointerup: up,
    pointercancel: up,
    pointerleave: up,
  });
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
