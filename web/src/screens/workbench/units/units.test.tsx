import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it, vi } from "vitest";
import { show } from "../../../test/helper";
import { serve } from "../../../test/serve";
import { standardPlan } from "../plan";
import { UnitSentence, unitOf } from "./UnitSentence";
import { Units } from "./Units";
import { binned, confusionAt, shortWords, type UnitsData, worstOf } from "./units";

const levels = Array.from({ length: 201 }, (_, i) => Math.round((2 + i * 0.05) * 100) / 100);
const START = Date.UTC(2026, 7, 3);

/** Six units: four that trained or stopped it, two of the test, of which the last is an incident. */
function some(changes: Partial<UnitsData> = {}): UnitsData {
  return {
    samples: 4,
    step_s: 0.001,
    start: [0, 1, 2, 3, 4, 5].map((k) => START + k * 3_600_000),
    part: ["training", "training", "training", "validation", "test", "test"],
    is_odd: [false, false, false, false, false, true],
    score: [0, 0.4, 1, 0.9, 7, 13],
    level: 3,
    levels,
    tp: levels.map(() => 1),
    fp: levels.map((l) => (l <= 7 ? 1 : 0)),
    fn: levels.map(() => 0),
    tn: levels.map((l) => (l <= 7 ? 0 : 1)),
    best: null,
    why_not: "1 usual units of validation and 0 labelled ones to choose a level by: it needs both",
    laid: [5, 4, 0],
    ...changes,
  };
}

const unit = (number: number) => ({
  number,
  at_s: [0, 0.001, 0.002, 0.003],
  value: [1, 2, 5, 1],
  expected: [1, 2, 2, 1],
  spread: [0.5, 0.5, 0.5, 0.5],
});
const stream = { id: 7, title: "south ramp", unit: "mm/s²", zone: "UTC" } as never;

function open(data = some(), setLevel = vi.fn()) {
  const calls = serve({
    "GET /api/v1/scans/{id}/streams/{stream}/units": () => data,
    "GET /api/v1/scans/{id}/streams/{stream}/units/drawn": ({ params }) => ({
      units: String(params?.query?.numbers)
        .split(",")
        .map((n) => unit(Number(n))),
    }),
  });
  show(<Units scanId={3} stream={stream} level={null} setLevel={setLevel} />);
  return { calls, setLevel };
}

describe("units judged as wholes", () => {
  it("open on the worst, with what it was rebuilt as and where the error lies", async () => {
    const { calls } = open();
    const one = await screen.findByRole("region", { name: "One unit" });
    expect(within(one).getByText("Mon 3 Aug 05:00: 13.0 σ, test, an incident")).toBeTruthy();
    expect(within(one).getByText(/after 2 ms, 6.0 times the usual error there/)).toBeTruthy();
    expect(calls.filter((c) => c.path.endsWith("drawn")).map((c) => c.query?.numbers)).toEqual([
      "5",
      "5,4,0",
    ]);
    await userEvent.click(within(one).getByRole("button", { name: "Earlier" }));
    expect(await within(one).findByText("Mon 3 Aug 04:00: 7.0 σ, test")).toBeTruthy();
    expect(screen.getByText(/2 odd ones and 1 other over one another/)).toBeTruthy();
  });

  it("say what the level makes of the test, and move it", async () => {
    const { setLevel } = open();
    const words = await screen.findByRole("status", { name: "The test at this level" });
    expect(words.textContent).toContain("At 3.00 σ, of the 2 units of the test: 2 are flagged.");
    expect(words.textContent).toContain(
      "Of 1 incident 1 found (recall 1.00), of 1 others 0 passed (specificity 0.00).",
    );
    expect(screen.getByText(/No level can be chosen yet: 1 usual units/)).toBeTruthy();
    screen.getByRole("slider").focus();
    await userEvent.keyboard("{ArrowRight}");
    await waitFor(() => expect(setLevel).toHaveBeenCalledWith(3.05));
  });

  it("take the level that keeps sensitivity and specificity together", async () => {
    const best = { level: 9, is_met: true, chosen_on: {}, test: {} };
    const { setLevel } = open(some({ best, why_not: "" }));
    await userEvent.click(await screen.findByRole("button", { name: "Go to this level" }));
    expect(setLevel).toHaveBeenCalledWith(9);
  });

  it("are counted by part and score, and incidents by themselves", () => {
    const data = some();
    expect(worstOf(data)).toBe(5);
    expect(binned(data, "training", 24, 0.5).slice(0, 3)).toEqual([2, 0, 1]);
    expect(binned(data, "test", 24, 0.5).indexOf(1)).toBe(14);
    // What lies past the end stands in the last bin.
    expect(binned(data, "incidents", 24, 0.5).at(-1)).toBe(1);
    expect(confusionAt(data, 8)).toEqual({ tp: 1, fp: 0, fn: 0, tn: 1 });
    expect(confusionAt(data, 99)).toEqual({ tp: 1, fp: 0, fn: 0, tn: 1 });
    expect([0.0005, 0.127, 2, 600].map(shortWords)).toEqual(["1 ms", "127 ms", "2 s", "10 min"]);
  });
});

describe("the sentence of a plan for units", () => {
  it("reads as one, and its words change the plan", async () => {
    const plan = {
      ...standardPlan,
      prepare: { ...standardPlan.prepare, unit: { gap: "1s", length: null } },
      baseline: { ...standardPlan.baseline, kind: "reconstruction", options: {} },
    };
    const onChange = vi.fn();
    show(<UnitSentence plan={plan} isWrong={() => false} levels={{ above: 3.1 }} onChange={onChange} />);
    const text = document.querySelector(".sentence")?.textContent;
    expect(text).toContain("Judge each burst, parted by 1s without a sample, as a whole.");
    expect(text).toContain("Expect what a narrow network gives back, 8 wide at its narrowest.");
    await userEvent.click(screen.getByRole("button", { name: /^unit:/ }));
    const field = screen.getByRole("textbox");
    await userEvent.clear(field);
    await userEvent.type(field, "length 24h{Enter}");
    expect(onChange.mock.lastCall?.[0].prepare.unit).toEqual({ length: "24h" });
  });

  it.each([
    ["gap 1s", { gap: "1s" }],
    [" Length 24h ", { length: "24h" }],
    ["none", "none"],
    ["", "none"],
    ["bursts", null],
  ])("reads %s", (text, unit) => {
    expect(unitOf(text)).toEqual(unit);
  });
});
