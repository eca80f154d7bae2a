import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Route, Routes } from "react-router";
import { describe, expect, it } from "vitest";
import { show } from "../test/helper";
import { serve } from "../test/serve";
import Look from "./look/Look";
import { besideWords, type Look as Data, periodWords, verdictWords } from "./look/words";

const DAY = 86_400_000;
const sunday = Date.parse("2026-10-04T00:00:00Z");
const look = {
  by: "day",
  n: 8,
  stream: 7,
  metric: "gate_taps",
  title: "gate_taps · Northquay",
  streams: 1,
  unit: "taps",
  zone: "UTC",
  adds_up: true,
  start: sunday,
  end: sunday + DAY,
  value: 744,
  usual: 248,
  lower: 240,
  upper: 256,
  seen: 1,
  outside: "above",
  is_bad: true,
  beside: [1, 2, 3].map((k) => ({ start: sunday - 7 * k * DAY, value: 248, left_out: k === 3 })),
  pushed_by: "fare",
  up: [{ name: "adult", value: 700, usual: 200, change: 500 }],
  down: [{ name: "child", value: 44, usual: 48, change: -4 }],
  periods: {
    start: [sunday - 2 * DAY, sunday - DAY, sunday],
    value: [250, null, 744],
    usual: [248, 248, 248],
    lower: [240, null, 240],
    upper: [256, null, 256],
    outside: ["", "", "above"],
  },
} as unknown as Data;

describe("in words", () => {
  it("says how far, on which side, and whether that is bad", () => {
    expect(periodWords(sunday, "day", "UTC")).toBe("Sun 4 Oct");
    expect(verdictWords(look)).toBe("It is 200 % above what is usual, above its limits: the bad side.");
    expect(verdictWords({ ...look, outside: "", value: 250 })).toBe(
      "It is 1 % above what is usual, within its limits.",
    );
    expect(verdictWords({ ...look, usual: null })).toContain("none before it");
    expect(besideWords(look)).toBe("by the same weekday of 2 weeks before, 1 left out as far from the rest");
  });
});

describe("the screen", () => {
  const page = () =>
    show(
      <Routes>
        <Route path="/look" element={<Look />} />
      </Routes>,
      "/look?stream=7",
    );
  it("shows the day and its parts, and follows to another by the arrow keys", async () => {
    const calls = serve({
      "GET /api/v1/look": () => look,
      "GET /api/v1/routes": () => [],
      "GET /api/v1/mornings": () => [],
      "GET /api/v1/boards": () => [],
    });
    const user = userEvent.setup();
    page();
    const bars = await screen.findByRole("slider", { name: "Past days" });
    expect(bars.getAttribute("aria-valuetext")).toBe("Sun 4 Oct: 744 taps");
    expect(screen.getByText("+500")).toBeTruthy();
    bars.focus();
    await user.keyboard("{ArrowLeft}");
    await waitFor(() =>
      expect(calls.some((c) => c.path === "/api/v1/look" && c.query?.day === "2026-10-03")).toBe(true),
    );
  });
});
