import { fireEvent, screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Route, Routes, useLocation } from "react-router";
import { describe, expect, it } from "vitest";
import { Problem } from "../api/client";
import { aCurve, show } from "../test/helper";
import { serve } from "../test/serve";
import Rounds from "./review/Rounds";
import { Falses } from "./scorecard/CardBody";
import Comparison from "./scorecard/Comparison";
import Published from "./scorecard/Published";
import Scorecard from "./scorecard/Scorecard";
import Scorecards from "./scorecard/Scorecards";

const aScan = {
  id: 1,
  plan: "harbour watch",
  plan_id: 1,
  version: 3,
  plan_data: {},
  plan_text: "",
  is_standing: true,
  mode: "fit",
  streams: 36,
  metrics: ["gate_taps"],
  findings: 142,
  precision: 0.82,
  recall: null,
  job: 1,
  state: "done",
  span_from: 0,
  span_to: 1,
  created_by: "demo",
  created_at: Date.parse("2026-11-20T10:00:00Z"),
  finished_at: Date.parse("2026-11-20T10:01:00Z"),
  code_version: "0.1.0",
  logbook_version: 2,
  logbook_now: 2,
};

const figures = {
  events: {
    tp_findings: 35,
    fp_findings: 6,
    tp_labels: 35,
    fn_labels: 4,
    precision: 0.8537,
    precision_ci: [0.7156, 0.9312],
    precision_ci_clustered: [0.6, 0.95],
    precision_bounds: [0.74, 0.87],
    recall: 0.8974,
    recall_ci: [0.764, 0.9594],
    recall_ci_clustered: null,
    recall_of: "incidents",
    f1: 0.875,
    f1_ci: null,
    incident_precision: 0.9,
    fragmentation: 1,
  },
  points: {
    tp: 412,
    fp: 71,
    fn: 118,
    tn: 120_359,
    precision: 0.85,
    recall: 0.78,
    specificity: 0.9994,
    accuracy: 0.9985,
    f1: 0.81,
    accuracy_ci: null,
    specificity_ci: null,
    precision_ci: null,
    recall_ci: null,
  },
  ranges: { precision: 0.81, recall: null, f1: null },
  sampled: null,
  flagged_share: 0.004,
  delay: { median_s: 1800, p90_s: 7200, n: 35 },
  false_per_week: { per_stream: 0.03, total: 1.1, false_findings: 6, stream_weeks: 180, per_stream_ci: null },
  by_kind: {
    findings: { outlier: { tp: 35, fp: 4, precision: 0.9 }, shift: { tp: 0, fp: 2, precision: 0 } },
    labels: { ramp: { tp: 4, fn: 2, recall: 0.667, recall_ci: [0.3, 0.9], delay: { median_s: 68_400 } } },
  },
  excluded: { unjudged: 6, unsure: 1, unscored: 0, incidents_not_reviewed: 0 },
  notes: { clustered: "the span holds under 10 blocks" },
};

const cut = {
  tp_findings: 1,
  fp_findings: 1,
  unjudged: 0,
  tp_labels: 1,
  fn_labels: 0,
  precision: 0.5,
  precision_ci: [0.1, 0.9],
  recall: 1,
  recall_ci: [0.2, 1],
  f1: 0.67,
  delay_s: 900,
};

const aCard = {
  scan: aScan,
  span: { start: 0, end: 7 * 86_400_000 },
  figures,
  curve: aCurve().curve,
  missed: [],
  false: [],
  labels: 40,
  zone: "UTC",
  judged_weeks: 360,
  by_stream: [
    { ...cut, stream: 1, name: "one", fp_findings: 0, precision: 1, weeks: 10, false_per_week: 0 },
    { ...cut, stream: 2, name: "two", fp_findings: 4, precision: 0.2, weeks: 10, false_per_week: 0.4 },
    {
      ...cut,
      stream: 3,
      name: "three",
      fp_findings: 0,
      precision: null,
      precision_ci: null,
      weeks: 0,
      false_per_week: null,
    },
  ],
  by_family: [{ ...cut, name: "gate_taps" }],
  by_cause: [{ ...cut, name: "" }],
  by_month: [{ ...cut, name: "2026-08" }],
  delays: [{ seconds: 0, kind: "spike", cause: "market", start: 0 }],
  calibration: { promised: 0.1, seen: 0.09, seen_ci: [0.05, 0.15], false: 15, weeks: 170, levels: null },
  locked: null,
  quiet_findings: 2,
  replay: null,
  logbook_version: 2,
  data_digest: "4f1c9a77aa",
  computed_at: "",
};

const aLevel = {
  level: 5.15,
  is_met: true,
  by: "events",
  constraint: { min_recall: 0.8 },
  apparent: { precision: 0.93, recall: 0.84, false_per_week: 0.02 },
  cross_validated: { precision: 0.91, recall: 0.82, false_per_week: 0.03 },
  block_levels: [5.15, 4.85, 5.05],
  locked: null,
  feasible: [2, 5.15],
};

function Where() {
  const { pathname, search } = useLocation();
  return <output>{pathname + search}</output>;
}

describe("scorecards", () => {
  it("list every scan with its figures, and what has none as a dash", async () => {
    serve({
      "GET /api/v1/scans": () => [
        { ...aScan, id: 2, is_standing: false, state: "running", precision: null },
        aScan,
      ],
    });
    show(<Scorecards />);
    const rows = await screen.findAllByRole("row");
    expect(rows[1]?.textContent).toContain("standing");
    expect(rows[1]?.textContent).toContain("0.82");
    expect(rows[2]?.textContent).toContain("running");
    expect(screen.getAllByRole("link")).toHaveLength(1);
  });
  it("take two to six scans to set beside one another, the first one ticked first", async () => {
    serve({
      "GET /api/v1/scans": () => [
        { ...aScan, id: 1 },
        { ...aScan, id: 2, version: 2 },
      ],
      "GET /api/v1/published": () => [],
      "GET /api/v1/plans/{id}/trend": () => [],
    });
    show(
      <Routes>
        <Route path="/" element={<Scorecards />} />
        <Route path="*" element={<Where />} />
      </Routes>,
    );
    const go = await screen.findByRole("button", { name: /Compare/ });
    expect((go as HTMLButtonElement).disabled).toBe(true);
    await userEvent.click(screen.getByLabelText(/scan 2$/));
    await userEvent.click(screen.getByLabelText(/scan 1$/));
    await userEvent.click(screen.getByRole("button", { name: "Compare 2 scans" }));
    expect(screen.getByText("/scorecards/compare?scans=2,1")).toBeTruthy();
  });
  it("speak in a sentence with figures and show the wider interval", async () => {
    serve({
      "GET /api/v1/scans/{id}/scorecard": () => aCard,
      "GET /api/v1/scans/{id}/level": () => aLevel,
    });
    show(<Scorecard />);
    expect(
      await screen.findByText("Of 41 findings counted, 35 were real; of 39 incidents, 35 were found."),
    ).toBeTruthy();
    expect(screen.getByText("0.60 – 0.95")).toBeTruthy();
    expect(screen.getByText("0.76 – 0.96")).toBeTruthy();
    expect(
      screen.getByText(/6 findings elsewhere have no verdict: precision lies between 0.74 and 0.87/),
    ).toBeTruthy();
    expect(screen.getByText("120,359")).toBeTruthy();
    expect(screen.getByText("none: every incident was found")).toBeTruthy();
    expect(screen.getByText(/data 4f1c9a77aa/)).toBeTruthy();
    expect(screen.getByText(/Chance alone could have made the difference/)).toBeTruthy();
  });
  it("choose a level under a constraint and make it a new version", async () => {
    const calls = serve({
      "GET /api/v1/scans/{id}/scorecard": () => aCard,
      "GET /api/v1/scans/{id}/level": () => aLevel,
      "POST /api/v1/scans/{id}/level": () => ({ ...aScan, id: 7, version: 8 }),
    });
    show(<Scorecard />);
    expect(await screen.findByText(/precision 0.91, recall 0.82/)).toBeTruthy();
    expect(screen.getByText(/levels from 4.85 to 5.15/)).toBeTruthy();
    fireEvent.change(screen.getByLabelText("Constraint"), { target: { value: "gap" } });
    await waitFor(() => expect(calls.at(-1)?.query).toEqual({ max_gap: 0.1, by: "points" }));
    await userEvent.click(await screen.findByRole("button", { name: /Adopt 5.15 σ as a new version/ }));
    expect(calls.find((c) => c.method === "POST")?.body).toEqual({ level: 5.15 });
    expect((await screen.findByRole("link", { name: "its scorecard" })).getAttribute("href")).toBe(
      "/scorecards/7",
    );
  });
  it("sort what is cut by stream, by family and by cause; what has no value stands last", async () => {
    serve({
      "GET /api/v1/scans/{id}/scorecard": () => aCard,
      "GET /api/v1/scans/{id}/level": () => aLevel,
    });
    show(<Scorecard />);
    const table = within(await screen.findByRole("region", { name: "Cut finer" }));
    const names = () =>
      table
        .getAllByRole("row")
        .slice(1)
        .map((r) => r.querySelector("td")?.textContent);
    expect(names()).toEqual(["two", "one", "three"]);
    await userEvent.click(table.getByRole("button", { name: /precision/ }));
    expect(names()).toEqual(["one", "two", "three"]);
    await userEvent.click(table.getByRole("button", { name: /precision/ }));
    expect(names()).toEqual(["two", "one", "three"]);
    fireEvent.change(table.getByLabelText("Cut by"), { target: { value: "by_cause" } });
    expect(names()).toEqual(["no cause noted"]);
  });
  it("say how far the counting is where a job does it", async () => {
    serve({
      "GET /api/v1/scans/{id}/scorecard": () => ({ counting_job: 4 }),
      "GET /api/v1/jobs/{id}": () => ({ id: 4, state: "running", done: 300, total: 1000, message: "" }),
    });
    show(<Scorecard />);
    expect(await screen.findByText(/300 of 1,000 streams/)).toBeTruthy();
  });
  it("show a published one with what has changed since", async () => {
    serve({
      "GET /api/v1/published/{id}": () => ({
        ...aCard,
        id: 3,
        title: "For the harbour master",
        author: "ann",
        created_at: Date.parse("2026-11-16T10:00:00Z"),
        plan: "gate taps",
        version: 7,
        mode: "fit",
        scan: null,
        plan_text: "flag: {}",
        code_version: "0.3.1",
      }),
      "GET /api/v1/published/{id}/since": () => ({
        is_stale: true,
        entries_new: 2,
        entries_gone: 0,
        streams_changed: 1,
        is_scan_gone: true,
        figures: { ...figures, events: { ...figures.events, precision: 0.5 } },
      }),
    });
    show(<Published />);
    const note = await screen.findByText("Stale.");
    expect(note.parentElement?.textContent).toContain(
      "2 entries came to the logbook, the samples of 1 stream are others now",
    );
    expect(note.parentElement?.textContent).toContain("precision 0.50 instead of 0.85");
    expect(screen.getByRole("link", { name: "findings.csv" })).toBeTruthy();
    // Without its scan nothing can be adopted, and no chart drawn.
    expect(screen.queryByLabelText("Constraint")).toBeNull();
  });
  it("set scans beside one another and say what can be said", async () => {
    const one = {
      scan: 1,
      plan: "gate taps",
      version: 1,
      mode: "fit",
      findings: 41,
      events: figures.events,
      points: null,
      delay: { median_s: 900 },
      false_per_week: { per_stream: 0.1 },
      against: null,
    };
    const paired = (words: string) => ({
      one: 0.85,
      other: 0.91,
      difference: 0.06,
      difference_ci: [-0.02, 0.14],
      words,
    });
    serve({
      "GET /api/v1/comparison": () => ({
        streams: 18,
        span_from: 0,
        span_to: 864e5 * 70,
        labels: 40,
        scans: [
          one,
          {
            ...one,
            scan: 2,
            version: 2,
            against: {
              block_s: 604800,
              notes: {},
              precision: paired("precision differs by +0.060; chance alone could have made that"),
              recall: paired("v2 has the higher recall"),
              found_by_both: 30,
              found_by_one_only: 1,
              found_by_other_only: 5,
            },
          },
        ],
      }),
    });
    show(<Comparison />);
    expect(await screen.findByText(/Precision differs by \+0.060; chance alone/)).toBeTruthy();
    expect(screen.getAllByText("+0.06 (−0.02 to +0.14)")).toHaveLength(2);
    expect(screen.getByRole("button", { name: "Set against gate taps v2" })).toBeTruthy();
  });
});

describe("a round of review", () => {
  it("is filled by family, days and strength; a fair sample asks for no strength", async () => {
    const calls = serve({
      "GET /api/v1/rounds": () => [],
      "GET /api/v1/review": () => ({ judged: 1, total: 9 }),
      "GET /api/v1/scans": () => [{ ...aScan, mode: "fit", state: "done" }],
      "POST /api/v1/rounds": () => {
        throw new Problem(400, "no open finding is left under these conditions", "", "take fewer of them");
      },
    });
    show(<Rounds />);
    fireEvent.change(await screen.findByLabelText("First day"), { target: { value: "2026-10-01" } });
    fireEvent.change(screen.getByLabelText("Last day"), { target: { value: "2026-10-02" } });
    fireEvent.change(screen.getByLabelText("Least strength, sigmas"), { target: { value: "7.5" } });
    await userEvent.click(screen.getByRole("button", { name: "Begin the round" }));
    expect((await screen.findByRole("alert")).textContent).toContain("no open finding is left");
    const body = calls.find((c) => c.method === "POST")?.body as {
      begin: number;
      end: number;
      least: number;
    };
    expect(body.least).toBe(7.5);
    expect(body.begin).toBe(new Date("2026-10-01T00:00").getTime());
    expect(body.end - body.begin).toBe(2 * 86_400_000 - 1);
    fireEvent.click(screen.getByLabelText(/A fair sample/));
    expect(screen.queryByLabelText("Least strength, sigmas")).toBeNull();
    expect(screen.getByText(/for the chosen family and days alone/)).toBeTruthy();
  });
});

describe("the false ones", () => {
  it("are a few at first, and all of them on request", async () => {
    const wrong = Array.from({ length: 9 }, (_, i) => ({
      stream: null,
      title: `stream ${i}`,
      start: i,
      end: i,
      kind: "outlier",
      direction: "above",
      score: 9 - i,
    }));
    show(<Falses wrong={wrong as never} scan={null} />);
    expect(screen.getAllByRole("listitem")).toHaveLength(4);
    await userEvent.click(screen.getByRole("button", { name: "Show all 9" }));
    expect(screen.getAllByRole("listitem")).toHaveLength(9);
    expect(screen.queryByRole("button")).toBeNull();
  });
});
