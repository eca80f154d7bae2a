import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it, vi } from "vitest";
import type { ChartWindow, Schema } from "../../api/client";
import { pinching } from "../../charts/gestures";
import { svgOf } from "../../charts/picture";
import { aCurve, aFinding, show } from "../../test/helper";
import { serve } from "../../test/serve";
import { nearChanges } from "./Changes";
import { Compare, plain } from "./Compare";
import { Examination, remedyWords } from "./Examination";
import { Explain, findingLink, lagWords } from "./Explain";
import { slotWords } from "./FoldPicture";
import { evidenceWords } from "./Forms";
import { FindingLane } from "./Lanes";
import { Loss, LossSoFar, learntOf, wordsOf } from "./Loss";
import { parseOptions } from "./MoreWords";
import { boundsOf, Others, useOthers } from "./Others";
import { standardPlan } from "./plan";
import { oddsOf, promiseWords, ScoreStrip } from "./ScoreStrip";
import { cyclesOf } from "./SeasonRuler";
import { Sentence } from "./Sentence";
import { Versions } from "./Versions";

const stream = {
  id: 7,
  metric: "gate_taps",
  title: "Northquay · adult",
  unit: "taps",
  zone: "Europe/Dublin",
};

describe("what a level promises", () => {
  it("is the server's own reading in force, and its table while dragging", () => {
    const data = { ...aCurve(), in_force: { ...aCurve().in_force, odds: 9400, per_week: 0.1 } };
    expect(promiseWords(data, null)).toBe("1 in 9,400 samples; 0.10 false findings a week promised");
    expect(promiseWords(data, 4)).toBe("1 in 140 samples; 4.60 false findings a week promised");
    expect(promiseWords({ ...data, in_force: {} }, null)).toBe("");
  });
  it("has odds for a score from two sigmas on, of either sign", () => {
    expect(oddsOf(aCurve(), 1.9)).toBeNull();
    expect(oddsOf(aCurve(), -4.02)).toBe(140);
    expect(oddsOf(aCurve(), 99)).toBe(300);
    expect(oddsOf(undefined, 5)).toBeNull();
  });
  it("stands beside what a replay saw", () => {
    show(<ScoreStrip curve={aCurve()} level={null} replay={aCurve()} />);
    expect(document.querySelector(".strip .replay-precision")?.textContent).toBe("0.75");
    expect(screen.getByText(/In replay/).textContent).toContain("0.30 false a week");
  });
});

describe("diagnoses", () => {
  it("say their remedy in words and try its plan", async () => {
    expect(remedyWords({ "baseline.options": { harmonics: 4 } })).toBe("harmonics 4");
    expect(remedyWords({ "baseline.form": "multiplicative", "baseline.seasons": ["24h", "7d"] })).toBe(
      "form multiplicative, seasons 24h and 7d",
    );
    const errors = {
      samples: 9,
      mae: 1.5,
      rmse: 2,
      mape: null,
      smape: null,
      median_ape: null,
      coverage: 0.98,
      why: {},
    };
    serve({
      "GET /api/v1/scans/{id}/streams/{stream}/examination": () => ({
        baseline: {},
        training: errors,
        after: { ...errors, mae: 4 },
        promised_per_week: null,
        smallest: { above: 6.5, below: null },
        diagnoses: [
          {
            name: "form",
            words: "the season grows with the level",
            remedy: { "baseline.form": "multiplicative" },
            plan: standardPlan,
          },
        ],
      }),
    });
    const tried = vi.fn();
    show(<Examination stream={stream as never} scanId={3} isBusy={false} onTry={tried} />);
    await userEvent.click(await screen.findByRole("button", { name: "Try form multiplicative" }));
    expect(tried).toHaveBeenCalledWith(standardPlan);
    expect(screen.getByText(/On average off by/).textContent).toBe(
      "On average off by 1.50 taps in training (98.0 % inside the band), by 4 after it (98.0 % inside the band).",
    );
    expect(screen.getByText(/The smallest deviation/).textContent).toBe(
      "The smallest deviation of one sample that is flagged is 6.50 taps above, at the median sample.",
    );
  });
});

describe("comparing", () => {
  it("puts letters where the server says one and other", () => {
    expect(plain("the other has the higher recall, by 0.2", "B")).toBe("B has the higher recall, by 0.2");
    expect(plain("the one has the higher recall, by 0.2", "C")).toBe("A has the higher recall, by 0.2");
  });
  it("offers the other scans of the stream and pins the chosen one", async () => {
    const scan = { id: 3, plan: "watch", version: 1, mode: "fit", is_standing: true, findings: 4 };
    const other = { ...scan, id: 5, version: 2, is_standing: false };
    const pin = vi.fn();
    show(
      <Compare
        stream={stream as never}
        scan={scan as never}
        others={[scan, other] as never}
        pinned={[]}
        onPin={pin}
      />,
    );
    await userEvent.selectOptions(screen.getByRole("combobox"), "5");
    expect(pin).toHaveBeenCalledWith([5]);
  });
});

describe("explaining", () => {
  const beside = (changes: Partial<Schema["Beside"]>): Schema["Beside"] => ({
    finding: aFinding(),
    when: "before",
    lag_s: -7200,
    relation: "feeds this",
    goes_with: 0.8,
    goes_lag_s: -900,
    ...changes,
  });
  it("tells lag and relation in words", () => {
    expect(lagWords(beside({}))).toBe(
      "feeds this, 2.0\u2009h before it, 11.8 σ, scores go together 0.80 at −15\u2009min",
    );
    expect(lagWords(beside({ when: "with", relation: "", goes_with: null }))).toBe("with it, 11.8 σ");
  });
  it("links to the finding in its own scan with room around it", () => {
    expect(findingLink(aFinding())).toContain("/workbench/7?scan=3&finding=1&from=");
  });
  it("shows parts that sum to the whole, and changes what they are split by", async () => {
    const requested: string[] = [];
    serve({
      "GET /api/v1/findings/{id}/explain": ({ params }) => {
        requested.push(String(params?.query?.by ?? ""));
        return {
          finding: aFinding(),
          contributors: {
            attributes: ["fare", "place"],
            attribute: "place",
            of: "Northquay",
            observed: 36,
            expected: 26,
            unit: "taps / 15 min",
            rows: [{ name: "adult", observed: 22, expected: 12, push: 10, share: 1, missing: 0 }],
            unaccounted: 0,
            missing: 0,
            why: "",
          },
          beside: [],
          alike: [{ finding: aFinding({ id: 9, verdict: "foreseen" }), likeness: 0.91 }],
          days: [{ calendar: "Harbour days", name: "Regatta", start: 0, end: 86_400_000, is_all_day: true }],
        };
      },
    });
    show(<Explain finding={1} zone="Europe/Dublin" />);
    expect((await screen.findByRole("row", { name: /adult/ })).textContent).toBe("adult+10100 %");
    expect(screen.getByRole("row", { name: /unaccounted/ })).toBeTruthy();
    expect(screen.getByText(/likeness 0.91, foreseen/)).toBeTruthy();
    await userEvent.selectOptions(screen.getByRole("combobox"), "fare");
    await vi.waitFor(() => expect(requested).toEqual(["", "fare"]));
  });
});

it("a finding on a known day says so", async () => {
  serve({
    "GET /api/v1/findings/{id}/explain": () => ({
      finding: aFinding(),
      contributors: { attributes: [], attribute: null, of: "", rows: [], why: "No other has its metric." },
      beside: [],
      alike: [],
      days: [{ calendar: "Harbour days", name: "Regatta", start: 0, end: 86_400_000, is_all_day: true }],
    }),
  });
  show(<Explain finding={1} zone="Europe/Dublin" />);
  expect(await screen.findByText("Regatta")).toBeTruthy();
  expect(screen.getByText(/The calendars know this day/).textContent).toContain("all day");
});

describe("the season ruler", () => {
  it("begins days at midnight by the clocks, also where they change", () => {
    const march = Date.UTC(2026, 2, 28);
    const starts = cyclesOf(24, [march, march + 3 * 86_400_000], "Europe/Dublin");
    expect(starts.map((t) => new Date(t).toISOString().slice(5, 16))).toEqual([
      "03-28T00:00",
      "03-29T00:00",
      "03-29T23:00",
      "03-30T23:00",
    ]);
  });
  it("begins weeks on Monday and counts other seasons from 1970", () => {
    const from = Date.UTC(2026, 10, 18);
    expect(cyclesOf(168, [from, from + 14 * 86_400_000], "UTC").map((t) => new Date(t).getUTCDay())).toEqual([
      1, 1, 1,
    ]);
    const tides = cyclesOf(12.4206, [0, 86_400_000], "Europe/Dublin");
    expect(tides).toEqual([0, 12.4206 * 3_600_000]);
  });
});

describe("versions of a plan", () => {
  it("show what changed with a line around it", () => {
    const line = (kind: string, text: string) => ({ kind, text });
    const lines = [
      line("same", "a"),
      line("same", "b"),
      line("removed", "c"),
      line("added", "d"),
      line("same", "e"),
      line("same", "f"),
    ];
    expect(nearChanges(lines).map((l) => l.text)).toEqual(["b", "c", "d", "e"]);
  });
  it("can be taken up again", async () => {
    serve({
      "GET /api/v1/plans/{id}/versions": () => [
        {
          id: 2,
          number: 2,
          author: "ann",
          created_at: Date.parse("2026-11-01T10:00:00Z"),
          text: "new",
          stands_for: 4,
          scans: 1,
          changes: [{ kind: "added", text: "kind: slot" }],
        },
        {
          id: 1,
          number: 1,
          author: "",
          created_at: Date.parse("2026-10-01T10:00:00Z"),
          text: "old",
          stands_for: 0,
          scans: 2,
          changes: [],
        },
      ],
      "POST /api/v1/plans/check": () => ({ plan: { baseline: { kind: "loess" } }, text: "old" }),
    });
    const take = vi.fn();
    show(<Versions scan={{ plan: "watch", plan_id: 3, version: 2 } as never} onTake={take} />);
    expect(await screen.findByText(/stands for 4 streams/)).toBeTruthy();
    expect(screen.getByText(/\+ kind: slot/)).toBeTruthy();
    await userEvent.click(screen.getByRole("button", { name: "Take v1 up" }));
    await vi.waitFor(() => expect(take).toHaveBeenCalledWith({ baseline: { kind: "loess" } }));
  });
});

it("evidence for the forms stands in a sentence", () => {
  expect(
    evidenceWords({ leftover: { additive: 0.41, multiplicative: 0.05 }, held_out: { a: 1, b: 2 } }),
  ).toBe(
    "Season left in the size of the remainder: 0.41 added, 0.05 multiplied; the form with less of it fits. Held-out loss, nats a sample: a 1.000; b 2.000.",
  );
  expect(evidenceWords({ leftover: {}, held_out: {} })).toBe("Only one form can be had here.");
});

it("two fingers apart stand for less, together for more", () => {
  const pane = document.createElement("div");
  const seen = vi.fn();
  const stop = pinching(pane, seen);
  const touch = (name: string, pointerId: number, clientX: number) => {
    const event = new MouseEvent(name, { clientX });
    pane.dispatchEvent(Object.assign(event, { pointerId, pointerType: "touch" }));
  };
  touch("pointerdown", 1, 100);
  touch("pointermove", 1, 120);
  touch("pointerdown", 2, 220);
  touch("pointermove", 2, 320);
  expect(seen).toHaveBeenCalledWith(0.5, 220);
  touch("pointerup", 2, 320);
  touch("pointermove", 1, 10);
  expect(seen).toHaveBeenCalledTimes(1);
  stop();
});

it("places within a season have the words of their season", () => {
  expect(slotWords({ hours: 24 }, 6.5 * 3_600_000)).toBe("06:30");
  expect(slotWords({ hours: 24 }, 24 * 3_600_000)).toBe("24:00");
  expect(slotWords({ hours: 168 }, 42 * 3_600_000)).toBe("Tue 18:00");
  expect(slotWords({ hours: 12.42 }, 3.105 * 3_600_000)).toBe("+3.1\u2009h");
});

it("a lane names what is in sight", () => {
  const f = aFinding();
  show(
    <FindingLane
      name="B"
      words="watch v2, trial"
      findings={[f, aFinding({ id: 2, start: 1, end: 2 })]}
      range={[f.start - 1e6, f.end + 1e6]}
      zone="Europe/Dublin"
    />,
  );
  expect(screen.getByRole("img", { name: "watch v2, trial: 1 findings in sight" })).toBeTruthy();
});

it("a saved picture has title, units, source and every flagged sample, and no markup from names", () => {
  const view = {
    total: 3,
    reduced: false,
    time: [0, 1000, 2000],
    value: [1, 9, null],
    expected: [1, 1, 1],
    spread: [1, 1, 1],
    score: [0, 8, null],
  } as unknown as ChartWindow;
  const svg = svgOf(
    view,
    [0, 2000],
    { above: 4, below: 4 },
    { title: "a <b> & c", unit: "taps", zone: "Europe/Dublin", source: "scan 3" },
    () => "t",
  );
  const read = new DOMParser().parseFromString(svg, "image/svg+xml");
  expect(read.querySelector("parsererror")).toBeNull();
  expect(read.querySelector("title")?.textContent).toBe("a <b> & c");
  const texts = [...read.querySelectorAll("text")].map((t) => t.textContent).join(" ");
  expect(texts).toContain("taps");
  expect(texts).toContain("scan 3");
  expect(svg.match(/fill="#c2412d"/g)).toHaveLength(1);
});

describe("other streams below", () => {
  it("share one scale over all that is observed", () => {
    expect(boundsOf([{ value: [0, null, 10] }, { value: [50, 100] }])).toEqual([-6, 106]);
    expect(boundsOf([{ value: [null] }])).toBeUndefined();
  });
  it("are found by words once somebody reaches for the list, and added by their number", async () => {
    const row = (id: number, metric: string) => ({
      id,
      metric,
      title: `t${id}`,
      unit: "m",
      bad_side: "both",
      scan: 1,
    });
    const rows = [row(7, "gate_taps"), row(8, "quay_wind"), row(9, "gate_taps")];
    const calls = serve({
      "GET /api/v1/tide/rows": ({ params }) => {
        const found = rows.filter((r) => r.metric.includes(String(params?.query?.filter)));
        return { rows: found, total: found.length };
      },
    });
    const change = vi.fn();
    const choice = { ids: [], isCommon: false, isOver: false };
    function Both() {
      return (
        <Others
          stream={stream as never}
          choice={choice}
          streams={useOthers([], [0, 1e6])}
          pane={{ range: [0, 1e6], zone: "Europe/Dublin", tickWords: () => "" }}
          onChange={change}
        />
      );
    }
    show(<Both />);
    expect(calls).toHaveLength(0);
    const list = screen.getByRole("combobox", { name: "Beside it, another stream" });
    // The family first, without the stream itself.
    await userEvent.click(list);
    await screen.findByRole("option", { name: "gate_taps · t9" });
    expect(screen.queryByRole("option", { name: /t7/ })).toBeNull();
    await userEvent.type(list, "wind");
    // What does not have the words is not offered, though the answer to them is still to come.
    expect(screen.queryByRole("option", { name: /t9/ })).toBeNull();
    await waitFor(() => expect(calls.at(-1)?.query).toMatchObject({ filter: "wind" }));
    await userEvent.click(await screen.findByRole("option", { name: "quay_wind · t8" }));
    expect((list as HTMLInputElement).value).toBe("");
    expect(change).toHaveBeenCalledWith({ ...choice, ids: [8] });
  });
});

describe("the rest of the plan", () => {
  it("reads settings as written, numbers and yes or no not as words", () => {
    expect(parseOptions("centre: mean, previous: 4, robust: true,, bends: 7d")).toEqual({
      centre: "mean",
      previous: 4,
      robust: true,
      bends: "7d",
    });
    expect(parseOptions("")).toEqual({});
  });
  it.each([
    ["form: added", "multiplied", { baseline: { form: "multiplicative" } }],
    ["combining: mean", "median", { prepare: { combine: "p50" } }],
    ["clock: whichever fits", "UTC", { baseline: { clock: "utc" } }],
    ["left out: incidents", "nothing at all", { baseline: { leave_out: [] } }],
    ["windows: windows count too", "samples only", { flag: { windows: "none" } }],
    ["spread: robust", "the standard deviation", { flag: { spread: "sd" } }],
  ])("changes %s to %s in place", async (word, choice, changed) => {
    const change = vi.fn();
    show(<Sentence plan={standardPlan} levels={null} wrong={[]} onChange={change} />);
    await userEvent.click(screen.getByRole("button", { name: "more" }));
    await userEvent.click(screen.getByRole("button", { name: word }));
    await userEvent.click(await screen.findByRole("button", { name: choice }));
    expect(change).toHaveBeenCalledWith(expect.objectContaining(deep(changed)));
  });
  it.each([
    ["transform: as they are", "log", { prepare: { transform: "log" } }],
    ["settling: 3d", "1d", { baseline: { settle: "1d" } }],
    ["settings: no settings of its own", "harmonics: 4", { baseline: { options: { harmonics: 4 } } }],
    ["odd windows: none", "24h", { discords: { window: "24h" } }],
    ["refitting: auto", "7d", { replay: { refit: "7d" } }],
    ["shortest: 1", "3", { group: { shortest: 3 } }],
    ["training: all of the history", "70 %", { baseline: { train: { share: 0.7 } } }],
    ["training: all of the history", "2026-10-01", { baseline: { train: { until: "2026-10-01" } } }],
  ])("writes %s as %s", async (word, text, changed) => {
    const change = vi.fn();
    show(<Sentence plan={standardPlan} levels={null} wrong={["baseline.settle"]} onChange={change} />);
    await userEvent.click(screen.getByRole("button", { name: "more" }));
    await userEvent.click(screen.getByRole("button", { name: word }));
    const field = await screen.findByRole("textbox");
    await userEvent.clear(field);
    await userEvent.type(field, `${text}{Enter}`);
    expect(change).toHaveBeenCalledWith(expect.objectContaining(deep(changed)));
  });
});

describe("a network in the plan's sentence", () => {
  const plan = (kind: string, options: Record<string, unknown> = {}) => ({
    ...standardPlan,
    baseline: { ...standardPlan.baseline, kind, options },
  });

  it("names how far it looks and how wide it is", () => {
    const { container } = show(
      <Sentence
        plan={plan("reconstruction", { window: "24h" })}
        levels={null}
        wrong={[]}
        onChange={vi.fn()}
      />,
    );
    expect(container.textContent).toContain(
      "what a narrow network gives back from windows of 24h, 8 wide at its narrowest, one for each stream, with seasons of",
    );
  });

  it("can be one for the whole family", async () => {
    const change = vi.fn();
    show(<Sentence plan={plan("next-step", { epochs: 9 })} levels={null} wrong={[]} onChange={change} />);
    await userEvent.click(screen.getByRole("button", { name: "shared by: one for each stream" }));
    await userEvent.click(await screen.findByRole("button", { name: "one for the whole family" }));
    expect(change.mock.calls[0]?.[0].baseline.options).toEqual({ epochs: 9, per: "family" });
  });

  it.each([
    ["window: season", "12h", { window: "12h", epochs: 9 }],
    ["width of the network: 32", "16", { hidden: 16, epochs: 9 }],
  ])("writes %s as %s and keeps the other settings", async (word, text, options) => {
    const change = vi.fn();
    show(<Sentence plan={plan("next-step", { epochs: 9 })} levels={null} wrong={[]} onChange={change} />);
    await userEvent.click(screen.getByRole("button", { name: word }));
    const field = await screen.findByRole("textbox");
    await userEvent.clear(field);
    await userEvent.type(field, `${text}{Enter}`);
    expect(change.mock.calls[0]?.[0].baseline.options).toEqual(options);
  });

  it("is no part of it for other baselines", () => {
    const { container } = show(<Sentence plan={standardPlan} levels={null} wrong={[]} onChange={vi.fn()} />);
    expect(container.textContent).not.toContain("wide");
  });
});

/** The parts named, each holding at least what is named of it. */
function deep(parts: Record<string, object>): Record<string, unknown> {
  return Object.fromEntries(
    Object.entries(parts).map(([name, values]) => [name, expect.objectContaining(values)]),
  );
}

describe("how a network learned", () => {
  const view = (losses: number[][], best: number) =>
    ({ resolved: { facts: { epoch_losses: losses, best_epoch: best } } }) as never;

  it("is drawn by epoch, with the kept one and what came after it", () => {
    const learnt = learntOf(view([[1, 1.2], [0.6, 0.9], [0.4, 1], [0.3, 1.1]], 2)); // biome-ignore format: a table
    expect(learnt).not.toBeNull();
    const { container } = show(<Loss learnt={learnt as never} />);
    expect(screen.getByRole("img").getAttribute("aria-label")).toContain(
      "validation is least, 0.900, in epoch 2",
    );
    expect(container.textContent).toContain("epoch 2, kept");
    expect(container.textContent).toContain(
      "in the 2 epochs after it the network learned its windows by heart",
    );
    expect(container.querySelectorAll("path")).toHaveLength(2);
  });

  it("is shown as far as it has come while it trains, whether or not some of it stops it", () => {
    const { container } = show(
      <LossSoFar training={{ number: 2, epoch_losses: [[1, 1.2], [0.6, 0.9], [0.4, 1]] }} />, // biome-ignore format: a table
    );
    expect(container.textContent).toContain("Network 2 of this scan, epoch 3; the best so far is 2.");
    expect(container.textContent).toContain("epoch 2, best");
    const first = show(<LossSoFar training={{ number: 3, epoch_losses: [[0.7, null]] }} />);
    expect(first.container.textContent).toContain("epoch 1; the best so far is 1");
    expect(first.container.innerHTML).not.toContain("NaN");
    expect(first.container.textContent?.match(/epoch 1, best/g)).toHaveLength(1);
  });

  it("names what would help", () => {
    expect(wordsOf(learntOf(view([[0.2, 0.9]], 1)) as never)).toContain(
      "twice as much: take a smaller network",
    );
    expect(wordsOf(learntOf(view([[0.8, 0.9]], 1)) as never)).toContain("more epochs may bring more");
  });

  it("is nothing for a baseline that is no network", () => {
    expect(learntOf({ resolved: { facts: { ridge: 1 } } } as never)).toBeNull();
    expect(learntOf({} as never)).toBeNull();
  });
});
