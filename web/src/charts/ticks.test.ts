import { describe, expect, it } from "vitest";
import { offsetAt, ticks } from "./ticks";

describe("ticks at round local times", () => {
  it("stay at local midnight through a clock change", () => {
    const from = Date.UTC(2026, 9, 22);
    const { at, step } = ticks(from, Date.UTC(2026, 9, 29), "Europe/Dublin", 8);
    expect(step).toBe(86_400_000);
    for (const t of at) {
      expect(new Date(t + offsetAt(t, "Europe/Dublin")).getUTCHours()).toBe(0);
    }
    expect(at.map((t) => new Date(t).getUTCHours())).toContain(23);
    expect(at.map((t) => new Date(t).getUTCHours())).toContain(0);
  });
  it("start weeks on Monday and keep to the count asked for", () => {
    const { at } = ticks(Date.UTC(2026, 6, 27), Date.UTC(2026, 10, 16), "UTC", 20);
    expect(at.length).toBeLessThanOrEqual(20);
    expect(new Set(at.map((t) => new Date(t).getUTCDay()))).toEqual(new Set([1]));
  });
});
