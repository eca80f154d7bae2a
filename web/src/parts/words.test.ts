import { describe, expect, it } from "vitest";
import { dayTime, duration, figure, plural, seasonWords, zoneName } from "./words";

describe("figures in words", () => {
  it("separates thousands and marks what is missing", () => {
    expect(figure(10752)).toBe("10,752");
    expect(figure(null)).toBe("–");
    expect(figure(-2.345)).toBe("−2.35");
    expect(figure(0.05)).toBe("0.05");
    expect(figure(-0.002345)).toBe("−0.0023");
    expect(figure(0)).toBe("0");
  });
  it("names the zone that holds at the time", () => {
    const summer = Date.UTC(2026, 7, 22, 10, 30);
    const winter = Date.UTC(2026, 10, 9, 10, 0);
    expect(dayTime(summer, "Europe/Dublin")).toContain("11:30");
    expect(dayTime(winter, "Europe/Dublin")).toContain("10:00");
    expect(zoneName(summer, "Europe/Dublin")).not.toBe(zoneName(winter, "Europe/Dublin"));
  });
  it("reads a season that is no whole minutes in hours", () => {
    expect(seasonWords("44714.164s")).toBe("12.42\u2009h");
    expect(seasonWords("7d")).toBe("7d");
    expect(seasonWords("90s")).toBe("90s");
    expect(seasonWords(96)).toBe("96");
  });
  it("takes the unit that reads best", () => {
    expect(duration(30)).toBe("30\u2009s");
    expect(duration(1800)).toBe("30\u2009min");
    expect(duration(54_000)).toBe("15\u2009h");
  });
  it("counts in words", () => {
    expect(plural(1, "finding")).toBe("1 finding");
    expect(plural(1042, "stream")).toBe("1,042 streams");
  });
});
