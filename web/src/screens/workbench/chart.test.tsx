import { fireEvent, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it, vi } from "vitest";
import { isUnjudged, nearest } from "../../charts/drawing";
import { alone } from "../../charts/paneOptions";
import { dayEnd, dayStart, localDay, localMs, localTime, shifted } from "../../parts/clock";
import { dayOfText } from "../../parts/When";
import { digitsFor, figure } from "../../parts/words";
import { show } from "../../test/helper";
import { ChartWords } from "./ChartWords";
import { evenBounds } from "./Components";
import { FoldPicture, scaleOf, slotReading } from "./FoldPicture";
import { betweenOf, lengthOf, lengthWords } from "./spans";
import { backOf } from "./useUnder";

const DAY = 86_400_000;
const DUBLIN = "Europe/Dublin";

describe("a written span", () => {
  it.each([
    ["3 d", 3 * DAY],
    ["36h", 36 * 3_600_000],
    ["2 weeks", 14 * DAY],
    ["1.5 days", 1.5 * DAY],
    ["90 MIN", 90 * 60_000],
    ["a week", null],
    ["3", null],
    ["-3 d", null],
    ["0 d", null],
  ])("%s is %s ms", (text, ms) => expect(lengthOf(text)).toBe(ms));
  it("is written so that it can be read back", () => {
    for (const ms of [90 * 60_000, 36 * 3_600_000, 3 * DAY, 14 * DAY, 730 * DAY])
      expect((lengthOf(lengthWords(ms)) ?? 0) / ms).toBeCloseTo(1, 2);
  });
  it("goes from day to day in full, by the stream's clock", () => {
    // Summer time ends on 25 October: the two days are 49 hours long.
    const [from, to] = betweenOf("2026-10-24 to 2026-10-25", DUBLIN) ?? [0, 0];
    expect(from).toBe(Date.UTC(2026, 9, 23, 23));
    expect((to - from) / 3_600_000).toBe(49);
    expect(betweenOf("2026-10-24 08:00 - 2026-10-24 09:30", DUBLIN)?.[1]).toBe(Date.UTC(2026, 9, 24, 8, 30));
    for (const wrong of ["2026-10-25 to 2026-10-24", "2026-10-24", "2026-13-01 to 2026-14-01", "x to y"])
      expect(betweenOf(wrong, DUBLIN)).toBeNull();
  });
});

describe("one clock", () => {
  it("reads and writes a zone's own time through both changes", () => {
    expect(localMs("2026-06-30 08:15", DUBLIN)).toBe(Date.UTC(2026, 5, 30, 7, 15));
    // 01:30 comes twice on 25 October: the first one; on 29 March it does not come.
    expect(localMs("2026-10-25 01:30", DUBLIN)).toBe(Date.UTC(2026, 9, 25, 0, 30));
    expect(localTime(localMs("2026-03-29 01:30", DUBLIN) ?? 0, DUBLIN)).toBe("2026-03-29 02:30");
    expect(localMs("2026-06-31", DUBLIN)).toBeNull();
    expect(localTime(Date.UTC(2026, 5, 30, 7, 15, 9), DUBLIN)).toBe("2026-06-30 08:15:09");
    for (const ms of [Date.UTC(2026, 0, 5, 3), Date.UTC(2026, 6, 5, 3), Date.UTC(2026, 9, 25, 5)])
      expect(localMs(localTime(ms, DUBLIN), DUBLIN)).toBe(ms);
  });
  it("knows where a day begins and ends", () => {
    expect(dayStart("2026-10-25", DUBLIN)).toBe(Date.UTC(2026, 9, 24, 23));
    expect(dayEnd("2026-10-25", DUBLIN)).toBe(Date.UTC(2026, 9, 26) - 1);
    expect(dayEnd("", DUBLIN)).toBeUndefined();
    expect(localDay(Date.UTC(2026, 9, 24, 23, 30), DUBLIN)).toBe("2026-10-25");
  });
  it("finds the same hour a week before, through a clock change", () => {
    const now = Date.UTC(2026, 9, 27, 8);
    expect(shifted(now - 7 * DAY - 3_600_000, 7 * DAY, DUBLIN)).toBe(now);
  });
  it.each([
    ["2026-05-01", "2026-05-01"],
    ["1 May 2026", "2026-05-01"],
    ["1. september", "2025-09-01"],
    ["31 Jun 2026", null],
    ["soon", null],
  ])("takes %s for %s", (text, day) => expect(dayOfText(text, 2025)).toBe(day));
});

describe("digits", () => {
  it("follow how far the values are spread", () => {
    const shares = [0.0208, 0.0213, 0.0221, 0.0199, 0.0205];
    expect(new Set(shares.map((v) => figure(v, digitsFor(shares)))).size).toBe(5);
    expect(digitsFor([100, 200, 300])).toBe(0);
    expect(digitsFor([100.5, 200, 300])).toBe(1);
    expect(digitsFor([3.1, 3.2, 3.35])).toBe(3);
    expect(digitsFor([5, 5, null])).toBeUndefined();
    expect(digitsFor([])).toBeUndefined();
  });
});

describe("what is drawn", () => {
  it("shows samples alone between gaps as points", () => {
    expect(alone([1, null, 2, null, 3, 4, null, 5], 0, 7)).toEqual([0, 2, 7]);
  });
  it("finds the nearest sample, and tells a gap from what is not judged", () => {
    expect([nearest([10, 20, 30], 24), nearest([10, 20, 30], 26), nearest([10], 99), nearest([], 1)]).toEqual(
      [1, 2, 0, null],
    );
    expect([isUnjudged(1, null), isUnjudged(null, null), isUnjudged(1, 0)]).toEqual([true, false, false]);
  });
  it("gives components scales of one length, so that a small drift looks small", () => {
    const [big, small, none] = evenBounds([[0, 100], [40, 40.5], [null]]);
    expect((big?.[1] ?? 0) - (big?.[0] ?? 0)).toBeCloseTo((small?.[1] ?? 0) - (small?.[0] ?? 0));
    expect(small?.[0]).toBeLessThan(40);
    expect(none).toBeUndefined();
    expect(evenBounds([[5, 5]])).toEqual([undefined]);
  });
  it("lays the longest season under the line where that is chosen", () => {
    expect(backOf("week", [24]).back).toBe(7 * DAY);
    expect(backOf("season", [24, 168]).back).toBe(7 * DAY);
    expect(backOf("season", []).words).toBe("the season of 1\u2009d before");
    expect(backOf("", [24]).back).toBe(0);
  });
});

describe("words over the chart", () => {
  const stream = { step_s: 900, zone: DUBLIN } as never;
  const whole: [number, number] = [0, 120 * DAY];
  const look = { by: "", isLog: false, isStep: false, under: "" } as const;
  const setUp = (range: [number, number]) => {
    const [setRange, setLook] = [vi.fn(), vi.fn()];
    show(<ChartWords {...{ stream, range, whole, setRange, look, setLook }} />);
    return { setRange, setLook };
  };
  it("keep the end where that is in sight, else the middle", async () => {
    const at = setUp([113 * DAY, 120 * DAY]);
    await userEvent.click(screen.getByRole("button", { name: "a day" }));
    expect(at.setRange).toHaveBeenCalledWith([119 * DAY, 120 * DAY]);
    expect(screen.getByRole("button", { name: "a week", pressed: true })).toBeTruthy();
  });
  it("take a written span, and say what they cannot read", async () => {
    const { setRange } = setUp([50 * DAY, 57 * DAY]);
    const write = async (text: string) => {
      await userEvent.click(screen.getByRole("button", { name: /^span:/ }));
      fireEvent.change(await screen.findByLabelText(/How much time/), { target: { value: text } });
      await userEvent.click(screen.getByRole("button", { name: "Set" }));
    };
    await write("3 d");
    expect(setRange).toHaveBeenLastCalledWith([52 * DAY, 55 * DAY]);
    await write("lately");
    expect(screen.getByRole("alert").textContent).toContain('"lately" is no span');
    expect(setRange).toHaveBeenCalledTimes(1);
  });
  it("change how it is drawn, a word at a time", async () => {
    const { setLook } = setUp([0, 120 * DAY]);
    await userEvent.selectOptions(screen.getByLabelText("How coarse"), "day");
    await userEvent.selectOptions(screen.getByLabelText("Vertical axis"), "log");
    await userEvent.selectOptions(screen.getByLabelText("Line or steps"), "steps");
    await userEvent.selectOptions(screen.getByLabelText("Laid under the line"), "week");
    expect(setLook.mock.calls.map(([l]) => l)).toEqual([
      { ...look, by: "day" },
      { ...look, isLog: true },
      { ...look, isStep: true },
      { ...look, under: "week" },
    ]);
  });
});

describe("the season fold", () => {
  const fold = {
    hours: 24,
    step_s: 21_600,
    clock: "local",
    starts: [0, DAY, 2 * DAY],
    cycles: [
      [1, 2, 3, 4],
      [2, 3, null, 5],
      [3, 9, 5, 6],
    ],
    expected: [2, 3, 4, 5],
  };
  it("has a scale of round figures", () => {
    expect(scaleOf(0.3, 8.9)).toEqual([2, 4, 6, 8]);
    expect(scaleOf(0, 100)).toEqual([0, 20, 40, 60, 80, 100]);
    expect(scaleOf(-0.02, 0.021)).toEqual([-0.02, -0.01, 0, 0.01, 0.02]);
  });
  it("says what lies in a slot", () => {
    expect(slotReading(fold, 1, 2, (v) => String(v))).toBe("06:00: 9, expected 3; 2 others 2 to 3, middle 2");
    expect(slotReading(fold, 2, 2, (v) => String(v))).toBe("12:00: 5, expected 4; 1 other 3 to 3, middle 3");
  });
  it("is read out with the arrow keys", async () => {
    show(<FoldPicture fold={fold} stream={{ zone: "UTC", unit: "taps" } as never} />);
    screen.getByRole("img").focus();
    await userEvent.keyboard("{ArrowRight}");
    expect(screen.getByRole("status").textContent).toBe(
      "06:00: 9 taps, expected 3 taps; 2 others 2 taps to 3 taps, middle 2 taps",
    );
  });
});
