import { describe, expect, it } from "vitest";
import { offsetAt, ticks, tickWords } from "./ticks";

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
  it("start weeks on Monday and keep to the count wanted", () => {
    const { at } = ticks(Date.UTC(2026, 6, 27), Date.UTC(2026, 10, 16), "UTC", 20);
    expect(at.length).toBeLessThanOrEqual(20);
    expect(new Set(at.map((t) => new Date(t).getUTCDay()))).toEqual(new Set([1]));
  });
});

describe("ticks over years and within minutes", () => {
  it("stand at the begin of months and years and name them", () => {
    const months = ticks(Date.UTC(2004, 0, 15), Date.UTC(2005, 0, 20), "UTC", 8);
    expect(months.at.map((t) => tickWords("UTC")(t, months.step)).slice(0, 2)).toEqual([
      "Mar 2004",
      "May 2004",
    ]);
    const years = ticks(Date.UTC(1871, 0, 1), Date.UTC(1970, 0, 1), "Europe/Dublin", 8);
    expect(years.at.map((t) => tickWords("Europe/Dublin")(t, years.step))).toEqual([
      "1880",
      "1900",
      "1920",
      "1940",
      "1960",
    ]);
  });
  it("name seconds where they are seconds apart", () => {
    const { at, step } = ticks(Date.UTC(2026, 7, 22, 9, 0, 2), Date.UTC(2026, 7, 22, 9, 0, 40), "UTC", 8);
    expect(step).toBe(5_000);
    expect(tickWords("UTC")(at[0] ?? 0, step)).toBe("09:00:05");
  });
});
