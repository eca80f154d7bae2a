import { act, fireEvent, render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useState } from "react";
import { afterEach, describe, expect, it, vi } from "vitest";
import { FindingsList, findingLabel, ordered } from "../parts/FindingsList";
import { Guard, isMissingPart } from "../parts/Guard";
import { useSettled } from "../parts/useSettled";
import { aFinding, show } from "../test/helper";
import { serve } from "../test/serve";
import { ChosenFinding } from "./workbench/ChosenFinding";
import { Forecast } from "./workbench/Forecast";
import { asCsv, reachedWords } from "./workbench/forecastWords";
import { LimitLine } from "./workbench/LimitLine";
import { Pennants } from "./workbench/Pennants";

const DAY = 86_400_000;
const at = (day: number) => Date.UTC(2026, 7, 1) + day * DAY;
const findings = [
  aFinding({ id: 1, start: at(1), end: at(1), score: 6 }),
  aFinding({ id: 2, start: at(2), end: at(2), score: 12, verdict: "incident" }),
  aFinding({ id: 3, start: at(3), end: at(3), score: 4, kind: "shift", direction: "up", size: 20 }),
  aFinding({ id: 4, start: at(4), end: at(4), score: 9, quiet: true }),
];
const all = { order: "newest", state: "all", size: "0", kind: "all" } as const;

describe("the list of findings", () => {
  it("is ordered and narrowed by words", () => {
    const ids = (filter: Partial<Parameters<typeof ordered>[1]>) =>
      ordered(findings, { ...all, ...filter }).map((f) => f.id);
    expect(ids({})).toEqual([4, 3, 2, 1]);
    expect(ids({ order: "oldest" })).toEqual([1, 2, 3, 4]);
    expect(ids({ order: "size" })).toEqual([2, 4, 1, 3]);
    expect(ids({ state: "open" })).toEqual([3, 1]);
    expect(ids({ state: "judged" })).toEqual([2]);
    expect(ids({ state: "quiet" })).toEqual([4]);
    expect(ids({ kind: "shift" })).toEqual([3]);
    // A shift is measured in the stream's unit, not in sigmas.
    expect(ids({ size: "8" })).toEqual([4, 3, 2]);
  });
  it("opens what is chosen beneath it, and says when nothing fits", async () => {
    const chosen = vi.fn();
    show(
      <FindingsList findings={findings} chosen={2} choose={chosen} badSide="both">
        <p>why it is one</p>
      </FindingsList>,
    );
    const rows = screen.getAllByRole("listitem");
    expect(rows.map((row) => row.textContent?.includes("why it is one"))).toEqual([
      false,
      false,
      true,
      false,
    ]);
    await userEvent.click(screen.getAllByRole("button")[0] as HTMLElement);
    expect(chosen).toHaveBeenCalledWith(findings[3]);
    await userEvent.selectOptions(screen.getByLabelText("Which kind"), "discord");
    expect(screen.getByText("No finding fits these words.")).toBeTruthy();
  });
});

describe("pennants", () => {
  it("can be pointed at and focused, each with its words, only those in sight", async () => {
    const chosen = vi.fn();
    show(<Pennants findings={findings} range={[at(1.5), at(3.5)]} chosen={3} choose={chosen} />);
    const names = screen.getAllByRole("button").map((b) => b.getAttribute("aria-label"));
    expect(names).toHaveLength(2);
    expect(names).toContain(findingLabel(findings[1] as (typeof findings)[0]));
    await userEvent.tab();
    await userEvent.keyboard("{Enter}");
    expect(chosen).toHaveBeenCalledTimes(1);
    expect(screen.getByRole("button", { pressed: true }).getAttribute("aria-label")).toContain("shift up");
  });
});

describe("a verdict in place", () => {
  it("is written with a key and taken back", async () => {
    const calls = serve({
      "GET /api/v1/findings/{id}/explain": () => ({
        finding: findings[0],
        contributors: { attributes: [], attribute: null, of: "", rows: [], why: "none" },
        beside: [],
        alike: [],
        days: [],
      }),
      "POST /api/v1/findings/{id}/verdict": () => ({ id: 77 }),
      "DELETE /api/v1/logbook/{id}": () => ({}),
    });
    show(<ChosenFinding finding={findings[0] as (typeof findings)[0]} />);
    await userEvent.keyboard("f");
    expect(await screen.findByText(/Foreseen: written/)).toBeTruthy();
    expect(calls.find((c) => c.method === "POST")?.body).toEqual({ verdict: "foreseen" });
    await userEvent.click(await screen.findByText("Take it back"));
    expect(await screen.findByText(/Taken back/)).toBeTruthy();
    expect(calls.some((c) => c.method === "DELETE")).toBe(true);
  });
  it("needs no key where letters are switched off", async () => {
    localStorage.setItem("watchtide-no-letters", "1");
    const calls = serve({});
    show(<ChosenFinding finding={findings[0] as (typeof findings)[0]} />);
    await userEvent.keyboard("f");
    expect(calls.some((c) => c.method === "POST")).toBe(false);
    localStorage.removeItem("watchtide-no-letters");
  });
});

describe("a value that lies in the address", () => {
  afterEach(() => vi.useRealTimers());
  it("is written once when a gesture has ended", () => {
    vi.useFakeTimers();
    const stored: number[] = [];
    function Slider() {
      const [address, setAddress] = useState(0);
      const [value, set] = useSettled(address, (v: number) => {
        stored.push(v);
        setAddress(v);
      });
      return (
        <button type="button" onClick={() => set(value + 1)}>
          {value}
        </button>
      );
    }
    render(<Slider />);
    for (let i = 0; i < 60; i++) fireEvent.click(screen.getByRole("button"));
    expect(screen.getByRole("button").textContent).toBe("60");
    expect(stored).toEqual([]);
    act(() => void vi.runAllTimers());
    expect(stored).toEqual([60]);
    // Who rests in the middle of a drag has not ended it.
    fireEvent.pointerDown(window);
    fireEvent.click(screen.getByRole("button"));
    vi.advanceTimersByTime(2_000);
    expect(stored).toEqual([60]);
    fireEvent.pointerUp(window);
    vi.advanceTimersByTime(500);
    expect(stored).toEqual([60, 61]);
  });
});

describe("a screen that breaks", () => {
  it("tells a missing part of the page from a mistake, and offers what helps", () => {
    expect(isMissingPart(new TypeError("Failed to fetch dynamically imported module: /static/x.js"))).toBe(
      true,
    );
    expect(isMissingPart(new Error("error loading dynamically imported module"))).toBe(true);
    expect(isMissingPart(new TypeError("x is undefined"))).toBe(false);
    vi.spyOn(console, "error").mockImplementation(() => undefined);
    const Broken = ({ words }: { words: string }): null => {
      throw new Error(words);
    };
    const { unmount } = show(
      <Guard>
        <Broken words="Importing a module script failed." />
      </Guard>,
    );
    expect(screen.getByText("Reload")).toBeTruthy();
    unmount();
    show(
      <Guard>
        <Broken words="odd" />
      </Guard>,
    );
    expect(screen.getByText("Try again")).toBeTruthy();
  });
});

describe("a forecast", () => {
  const reached = (tenth: number | null, half: number | null, share: number) => ({
    limit: 540,
    side: "above" as const,
    expected_at: null,
    earliest_at: null,
    reached_with: { "0.1": tenth, "0.5": half, "0.9": null } as Record<string, number | null>,
    chance_by_end: share,
    by: [share],
  });
  const made = {
    stream: 7,
    key: "metric=taps,place=quay",
    metric: "taps",
    title: "quay",
    unit: "taps",
    zone: "UTC",
    time: [at(20), at(21)],
    expected: [10, null],
    lower: [8, 9],
    upper: [12, 13],
    limit: null,
    notes: ["beyond the end the level goes on"],
  };
  it("says when a limit is reached, and how sure that is", () => {
    const words = (...a: Parameters<typeof reached>) => reachedWords(reached(...a), "taps", "UTC");
    expect(words(at(20), at(22), 0.7)).toMatch(
      /^540 taps is reached .* \(half of the futures; one in ten by .*\); 70 of/,
    );
    expect(words(at(20), null, 0.2)).toMatch(/in one of ten futures, and in fewer than half .* 20 of 100/);
    expect(words(null, null, 0.03)).toMatch(/not reached within this span: 3 of 100/);
  });
  it("is saved as the command line writes it", () => {
    expect(asCsv([made]).split("\n")).toEqual([
      "series,time,expected,lower,upper",
      '"metric=taps,place=quay",2026-08-21T00:00:00Z,10,8,12',
      '"metric=taps,place=quay",2026-08-22T00:00:00Z,,9,13',
      "",
    ]);
  });
  it("is made by the plan on show, and a limit begins at the edge of the interval", async () => {
    const calls = serve({
      "POST /api/v1/streams/forecast": () => ({ items: [made] }),
      "GET /api/v1/streams/{id}/samples": () => ({ total: 0, reduced: false, time: [], value: [] }),
    });
    const stream = {
      id: 7,
      zone: "UTC",
      unit: "taps",
      step_s: 86_400,
      last: at(19),
      title: "quay",
      family: [7],
    } as never;
    const taken = vi.fn();
    const ahead = {
      days: "7",
      interval: "0.9",
      skip: 2,
      side: "none" as const,
      limit: null,
      isFamily: false,
    };
    show(<Forecast stream={stream} plan="baseline: {}" ahead={ahead} setAhead={taken} />);
    await screen.findByRole("button", { name: "CSV" });
    expect(calls.find((c) => c.method === "POST")?.body).toEqual({
      streams: [7],
      plan: "baseline: {}",
      steps: 7,
      skip_last: 2,
      interval: 0.9,
    });
    await userEvent.selectOptions(screen.getByLabelText("Limit"), "above");
    expect(taken).toHaveBeenCalledWith({ ...ahead, side: "above", limit: 13 });
  });
  it("has a limit that keys move", async () => {
    const moved = vi.fn();
    show(
      <LimitLine
        range={[0, 7 * DAY]}
        limit={50}
        setLimit={moved}
        bounds={[0, 100]}
        height={240}
        unit="taps"
      />,
    );
    screen.getByRole("slider").focus();
    await userEvent.keyboard("{ArrowUp}{PageUp}");
    expect(moved.mock.calls).toEqual([[51], [60]]);
  });
});
