import { dayTime, figure, utc, zoneName } from "../parts/words";
import { edgeAt } from "./band";
import { type Levels, sideOf } from "./drawing";
import { pathOf, washOf } from "./path";
import type { Drawn } from "./shapes";
import { ticks } from "./ticks";

const WIDE = 1200;
const TALL = 460;
const LEFT = 70;
const RIGHT = 20;
const TOP = 64;
const BOTTOM = 74;

export interface Caption {
  title: string;
  unit: string;
  zone: string;
  /** Where it comes from: plan, version, mode, scan. */
  source: string;
}

export interface Extra {
  /** A wash between two edges, in place of the band. */
  wash?: { time: number[]; lower: (number | null)[]; upper: (number | null)[] };
  /** Upright lines, and level ones, each with its words. */
  upright?: { at: number; words: string }[];
  level?: { at: number; words: string }[];
  /** What the marks are. */
  key?: string;
}

const KEY = "Line: observed. Broken: expected. Wash: the band. Triangles: flagged, up above and down below.";

/** The values pane as a picture by itself, black and white safe: title, units, axes, and its source. Only plain shapes and text. */
export function svgOf(
  view: Drawn,
  range: [number, number],
  levels: Levels,
  caption: Caption,
  tickWords: (ms: number, step: number) => string,
  { wash, upright = [], level = [], key = KEY }: Extra = {},
): string {
  const { time, value, expected = [], score = [] } = view;
  const inSight = time.flatMap((t, i) => (t >= range[0] && t <= range[1] ? [i] : []));
  const numbers = [
    ...inSight.flatMap((i) => [value[i], expected[i]]),
    ...(wash ? [...wash.lower, ...wash.upper] : []),
    ...level.map((l) => l.at),
  ].filter((v): v is number => v != null);
  const low = Math.min(...numbers, Number.POSITIVE_INFINITY);
  const high = Math.max(...numbers, Number.NEGATIVE_INFINITY);
  const margin = (high - low || 1) * 0.09;
  const x = (ms: number) => LEFT + ((ms - range[0]) / (range[1] - range[0] || 1)) * (WIDE - LEFT - RIGHT);
  const y = (v: number) =>
    TOP + (1 - (v - low + margin) / (high - low + 2 * margin || 1)) * (TALL - TOP - BOTTOM);
  const n = (v: number) => v.toFixed(1);
  const line = (data: (number | null | undefined)[]) =>
    pathOf(
      inSight.map((i) => data[i]),
      (k) => x(time[inSight[k] ?? 0] ?? 0),
      y,
    );
  const edge = (side: 1 | -1, level: number) => inSight.map((i) => edgeAt(view, i, side, level));
  const {
    time: at,
    upper,
    lower,
  } = wash ?? {
    time: inSight.map((i) => time[i] ?? 0),
    upper: edge(1, levels.above ?? levels.below ?? 0),
    lower: edge(-1, levels.below ?? levels.above ?? 0),
  };
  const band = washOf(lower, upper, (k) => x(at[k] ?? 0), y);
  const marks = inSight
    .filter((i) => sideOf(score[i], levels) !== 0 && value[i] != null)
    .map((i) => {
      const up = sideOf(score[i], levels) > 0;
      const [px, py] = [x(time[i] ?? 0), y(value[i] ?? 0)];
      const d = up ? -1 : 1;
      return `<path d="M${n(px - 3.4)} ${n(py - 2 * d)}L${n(px + 3.4)} ${n(py - 2 * d)}L${n(px)} ${n(py + 4 * d)}Z" fill="${up ? "#c2412d" : "#0d7377"}"/>`;
    })
    .join("");
  const moments = ticks(range[0], range[1], caption.zone, 14);
  const axis = moments.at
    .map(
      (t) =>
        `<path d="M${n(x(t))} ${TOP}V${TALL - BOTTOM}" stroke="#d9d2bf"/><text x="${n(x(t))}" y="${TALL - BOTTOM + 18}" text-anchor="middle">${safe(tickWords(t, moments.step))}</text>`,
    )
    .join("");
  const heights = [0, 1, 2, 3, 4].map((k) => low + ((high - low) * k) / 4);
  const scale = heights
    .map(
      (v) =>
        `<path d="M${LEFT} ${n(y(v))}H${WIDE - RIGHT}" stroke="#d9d2bf"/><text x="${LEFT - 8}" y="${n(y(v) + 4)}" text-anchor="end">${safe(figure(v))}</text>`,
    )
    .join("");
  const lines = [
    ...upright.map(({ at, words }) => ({
      path: `M${n(x(at))} ${TOP}V${TALL - BOTTOM}`,
      words,
      x: x(at) + 4,
      y: TOP + 12,
    })),
    ...level.map(({ at, words }) => ({
      path: `M${LEFT} ${n(y(at))}H${WIDE - RIGHT}`,
      words,
      x: LEFT + 4,
      y: y(at) - 4,
    })),
  ]
    .map(
      (l) =>
        `<path d="${l.path}" stroke="#16242e" stroke-dasharray="2 3"/><text x="${n(l.x)}" y="${n(l.y)}">${safe(l.words)}</text>`,
    )
    .join("");
  const when = `${dayTime(range[0], caption.zone)} to ${dayTime(range[1], caption.zone)} ${zoneName(range[1], caption.zone)} (${utc(range[0])} to ${utc(range[1])})`;
  const title = safe(caption.title);
  return `<svg xmlns="http://www.w3.org/2000/svg" width="${WIDE}" height="${TALL}" viewBox="0 0 ${WIDE} ${TALL}" font-family="sans-serif" font-size="13" fill="#16242e"><title>${title}</title><rect width="${WIDE}" height="${TALL}" fill="#ffffff"/><text x="${LEFT}" y="26" font-size="20">${title}</text><text x="${LEFT}" y="${TOP - 12}">${safe(caption.unit || "value")}</text>${scale}${axis}<path d="${band}" fill="#16242e" fill-opacity="0.13"/><path d="${line(expected)}" fill="none" stroke="#5b6a73" stroke-dasharray="5 4"/><path d="${line(value)}" fill="none" stroke="#16242e" stroke-width="1.3"/>${marks}${lines}<text x="${LEFT}" y="${TALL - 30}">${safe(when)}</text><text x="${LEFT}" y="${TALL - 12}">${safe(key)} ${safe(caption.source)}</text></svg>`;
}

function safe(text: string): string {
  return text.replace(/[<>&"]/g, (c) => `&#${c.charCodeAt(0)};`);
}

export function save(name: string, blob: Blob): void {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(blob);
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 10_000);
}

/** The same picture as pixels, twice as dense. */
export async function pngOf(svg: string): Promise<Blob> {
  const image = new Image();
  const url = URL.createObjectURL(new Blob([svg], { type: "image/svg+xml" }));
  try {
    image.src = url;
    await image.decode();
    const canvas = document.createElement("canvas");
    canvas.width = WIDE * 2;
    canvas.height = TALL * 2;
    canvas.getContext("2d")?.drawImage(image, 0, 0, canvas.width, canvas.height);
    return await new Promise((done, failed) =>
      canvas.toBlob((b) => (b ? done(b) : failed(new Error("the picture could not be made"))), "image/png"),
    );
  } finally {
    URL.revokeObjectURL(url);
  }
}
