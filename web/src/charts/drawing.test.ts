import type uPlot from "uplot";
import { describe, expect, it } from "vitest";
import { drawWash } from "./drawing";
import type { Palette } from "./palette";

/** A pane of 100 pixels over the samples from 1,000 to 2,000, which keeps what is drawn on it. */
function pane() {
  const corners: [number, number][] = [];
  const boxes: number[][] = [];
  const ctx = {
    beginPath: () => undefined,
    fill: () => undefined,
    lineTo: (x: number, y: number) => corners.push([x, y]),
    fillRect: (...box: number[]) => boxes.push(box),
  };
  const valToPos = (v: number, scale: string) => (scale === "x" ? (v - 1000) / 10 : 500 - v);
  const u = { ctx, valToPos, scales: { x: { min: 1000, max: 2000 }, y: {} } } as unknown as uPlot;
  return { u, corners, boxes };
}

const time = Array.from({ length: 5000 }, (_, i) => i);

describe("a wash between two edges", () => {
  it("is drawn where it is in sight, once a column of pixels, with the outermost edges of each", () => {
    const { u, corners } = pane();
    // One sample of each column reaches further than the others.
    const reach = (i: number) => (i % 10 === 3 ? 40 : 20);
    drawWash(u, {} as Palette, time, (i) => -reach(i), reach);
    expect(corners.length).toBeLessThanOrEqual(2 * 104);
    expect(Math.min(...corners.map(([x]) => x))).toBeGreaterThanOrEqual(-1);
    expect(Math.max(...corners.map(([x]) => x))).toBeLessThanOrEqual(101);
    const inside = corners.filter(([x]) => x >= 0 && x < 100);
    expect(new Set(inside.map(([, y]) => y))).toEqual(new Set([460, 540]));
  });

  it("is parted where an edge is missing, and shows a single sample", () => {
    const { u, corners, boxes } = pane();
    drawWash(u, {} as Palette, time, (i) => (i === 1500 ? -20 : null), () => 20); // biome-ignore format: a table
    expect(corners).toEqual([]);
    expect(boxes).toEqual([[50, 480, 1, 40]]);
  });
});
