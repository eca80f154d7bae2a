import { describe, expect, it } from "vitest";
import { QUIET, ribbonsOf, scoreAt } from "./ribbons";

function answer(rows: [number, number[]][]): ArrayBuffer {
  const body = new ArrayBuffer(rows.reduce((n, [, bins]) => n + 6 + bins.length, 0));
  const view = new DataView(body);
  let at = 0;
  for (const [stream, bins] of rows) {
    view.setUint32(at, stream, true);
    view.setUint16(at + 4, bins.length, true);
    bins.forEach((b, i) => {
      view.setInt8(at + 6 + i, b);
    });
    at += 6 + bins.length;
  }
  return body;
}

describe("ribbons of an answer", () => {
  it("are found by their streams, whatever their lengths", () => {
    const found = ribbonsOf(
      answer([
        [70_000, [5, -5, QUIET]],
        [3, []],
        [4, [127]],
      ]),
    );
    expect([...found].map(([k, v]) => [k, [...v]])).toEqual([
      [70_000, [5, -5, QUIET]],
      [3, []],
      [4, [127]],
    ]);
    expect(ribbonsOf(new ArrayBuffer(0)).size).toBe(0);
  });
  it("tell the score at a moment, and none outside or before they have come", () => {
    const row = { ribbon_from: 0, ribbon_to: 400 };
    const bins = new Int8Array([10, QUIET, -35, 0]);
    expect(scoreAt(row, bins, 10)).toEqual({ start: 0, score: 1 });
    expect(scoreAt(row, bins, 150)).toEqual({ start: 100, score: null });
    expect(scoreAt(row, bins, 250)).toEqual({ start: 200, score: -3.5 });
    expect(scoreAt(row, bins, 500)).toBeNull();
    expect(scoreAt(row, new Int8Array(), 10)).toBeNull();
  });
});
