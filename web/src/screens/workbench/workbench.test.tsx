import { fireEvent, screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it, vi } from "vitest";
import { sideOf } from "../../charts/drawing";
import { aCurve, show } from "../../test/helper";
import { levelWords, type PlanData, standardPlan } from "./plan";
import { figuresAt, ScoreStrip } from "./ScoreStrip";
import { Sentence } from "./Sentence";

describe("figures at a level", () => {
  it("are those in force until the line is dragged", () => {
    const f = figuresAt(aCurve(), null);
    expect(f).toMatchObject({
      findings: 12,
      precision: 0.75,
      precisionOf: [9, 12],
      recallOf: [8, 10],
      falseAWeek: 0.3,
      delay: 900,
      unjudged: 2,
    });
  });
  it("are read off the server's curve, never worked out", () => {
    const f = figuresAt(aCurve(), 4.5);
    expect(f.findings).toBe(1000 - 50);
    expect(f.precision).toBe(0.55);
    expect(f.precisionOf).toEqual([250, 425]);
    expect(f.precisionCi).toEqual([0.4, 0.7]);
  });
  it("have no precision where the server gave none, and stay on the curve beyond its ends", () => {
    expect(figuresAt(aCurve(), 12).precision).toBeNull();
    expect(figuresAt(aCurve(), 99).findings).toBe(800);
    expect(figuresAt(aCurve(), 0).findings).toBe(1000);
  });
  it("move in the strip with the level", () => {
    const seen = show(<ScoreStrip curve={aCurve()} level={null} />);
    expect(document.querySelector(".strip .precision")?.textContent).toBe("0.75");
    expect(screen.getByRole("status").textContent).toContain("12 findings at the level in force");
    seen.unmount();
    show(<ScoreStrip curve={aCurve()} level={4.5} />);
    expect(document.querySelector(".strip .precision")?.textContent).toBe("0.55");
    expect(screen.getByRole("status").textContent).toContain("950 findings at 4.50 σ");
    expect(screen.getByText("250 of 425")).toBeTruthy();
  });
});

describe("flags drawn at a level", () => {
  const both = { above: 5, below: 4 };
  it.each([
    [5, both, 1],
    [4.9, both, 0],
    [-4, both, -1],
    [null, both, 0],
    [-9, { above: 5, below: null }, 0],
    [9, { above: null, below: 4 }, 0],
  ])("a score of %s at %o is %s", (score, levels, side) => {
    expect(sideOf(score, levels)).toBe(side);
  });
});

describe("the plan as a sentence", () => {
  function setUp(plan: PlanData = standardPlan, wrong: string[] = []) {
    const onChange = vi.fn();
    show(<Sentence plan={plan} levels={{ above: 5.1, below: 4.2 }} wrong={wrong} onChange={onChange} />);
    return onChange;
  }
  const dialog = async () => within(await screen.findByRole("dialog"));

  it("reads its parts in words and figures", () => {
    setUp();
    const text = screen.getByText(/Take the/).textContent;
    expect(text).toContain("past 0.1 false findings a week (for this stream 5.1 σ above, 4.2 σ below)");
    expect(text).toContain("when 1 of 1 samples agree");
  });
  it("changes persistence and leaves the rest as it is", async () => {
    const onChange = setUp();
    await userEvent.click(screen.getByRole("button", { name: "persistence: 1 of 1" }));
    const box = await dialog();
    fireEvent.change(box.getByLabelText("Flagged samples needed"), { target: { value: "2" } });
    fireEvent.change(box.getByLabelText("of the last"), { target: { value: "3" } });
    await userEvent.click(box.getByRole("button", { name: "Set" }));
    expect(onChange).toHaveBeenCalledWith({
      ...standardPlan,
      group: { ...standardPlan.group, need: 2, of: 3 },
    });
  });
  it("takes a level in another reading", async () => {
    const onChange = setUp();
    await userEvent.click(screen.getByRole("button", { name: /^level:/ }));
    const box = await dialog();
    fireEvent.change(box.getByLabelText(/read as/), { target: { value: "odds" } });
    fireEvent.change(box.getByLabelText("Amount"), { target: { value: "9400" } });
    await userEvent.click(box.getByRole("button", { name: "Set" }));
    expect(onChange.mock.calls[0]?.[0].flag.level).toEqual({ odds: 9400 });
  });
  it.each([
    ["24h, 7d", ["24h", "7d"]],
    ["none", []],
    ["auto", "auto"],
    ["  12h ", ["12h"]],
  ])("reads seasons written as %s", async (text, seasons) => {
    const onChange = setUp();
    await userEvent.click(screen.getByRole("button", { name: /^seasons:/ }));
    const box = await dialog();
    fireEvent.change(box.getByLabelText("Seasons"), { target: { value: text } });
    await userEvent.click(box.getByRole("button", { name: "Set" }));
    expect(onChange.mock.calls[0]?.[0].baseline.seasons).toEqual(seasons);
  });
  it("chooses a side by its words", async () => {
    const onChange = setUp();
    await userEvent.click(screen.getByRole("button", { name: "side: above and below" }));
    await userEvent.click((await dialog()).getByRole("button", { name: "below only" }));
    expect(onChange.mock.calls[0]?.[0].flag.side).toBe("below");
  });
  it("marks the word that was refused", () => {
    setUp(standardPlan, ["flag.level"]);
    expect(screen.getByRole("button", { name: /^level:/ }).dataset.wrong).toBe("true");
    expect(screen.getByRole("button", { name: /^seasons:/ }).dataset.wrong).toBeUndefined();
  });
});

describe("a level in words", () => {
  it.each([
    [{ sigmas: 4.6 }, "4.60 σ"],
    [{ odds: 9400 }, "1 in 9,400 samples"],
    [{ "per-week": 0.1 }, "0.1 false findings a week"],
  ])("%o is %s", (level, words) => {
    expect(levelWords(level as Record<string, number>)).toBe(words);
  });
});
