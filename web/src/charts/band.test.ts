import { describe, expect, test } from "vitest";
import { edgeAt } from "./band";

describe("the edge of the band", () => {
  test("lies so many spreads from what is expected", () => {
    const view = { expected: [10, null], spread: [2, 2] };
    expect(edgeAt(view, 0, 1, 4)).toBe(18);
    expect(edgeAt(view, 0, -1, 3)).toBe(4);
    expect(edgeAt(view, 1, 1, 4)).toBeNull();
  });

  test("of counts is what the server gives, and smooth in between", () => {
    // Values that grow as 10 + 2 level + level²/4, and shrink as 10 - 2 level + level²/10.
    const up = [2, 4, 12].map((l) => [10 + 2 * l + l ** 2 / 4]);
    const down = [2, 4, 12].map((l) => [10 - 2 * l + l ** 2 / 10]);
    const view = { expected: [10], spread: [2], edges: { levels: [2, 4, 12], upper: up, lower: down } };
    expect(edgeAt(view, 0, 1, 4)).toBeCloseTo(22);
    expect(edgeAt(view, 0, 1, 6)).toBeCloseTo(31);
    expect(edgeAt(view, 0, -1, 5)).toBeCloseTo(2.5);
  });
});
