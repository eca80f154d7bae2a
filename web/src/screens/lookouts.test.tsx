import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Route, Routes } from "react-router";
import { describe, expect, it } from "vitest";
import { Problem } from "../api/client";
import { show } from "../test/helper";
import { serve } from "../test/serve";
import { Corrections } from "./lookouts/Corrections";
import Lookout from "./lookouts/Lookout";
import Lookouts from "./lookouts/Lookouts";
import { Rehearsal } from "./lookouts/Rehearsal";
import { scopeWords, stateCounts } from "./lookouts/words";
import { KeepWatch } from "./workbench/KeepWatch";

const one = {
  id: 4,
  name: "taps",
  plan_name: "harbour watch",
  plan_version: 2,
  version: 9,
  scope: { metric: "gate_taps", attributes: { place: "Northquay" } },
  every: "auto",
  wait: "auto",
  skip_last: 0,
  routes: [],
  notify: {},
  on: true,
  states: { steady: 4, adrift: 1 },
  looked_at: null,
  created_by: "ann",
  created_at: 0,
};
const route = {
  id: 3,
  kind: "hook",
  name: "pager",
  to: "https://pager.example/in",
  points: false,
  failing_since: null,
  failures: 0,
  last_detail: "",
  created_by: "ann",
  created_at: 0,
};
const item = {
  id: 11,
  notice: "msg_1",
  kind: "began",
  title: "gate_taps above",
  lookout: 4,
  stream: 7,
  route: 3,
  route_name: "pager",
  state: "failed",
  attempts: [
    { at: "2026-05-01T08:00:00Z", outcome: "failed", detail: "answered 503" },
    { at: "2026-05-01T08:01:00Z", outcome: "failed", detail: "answered 502" },
  ],
  due_at: null,
  created_at: 0,
};
const outside = {
  "GET /api/v1/routes": () => [route],
  "GET /api/v1/outbox": () => [item],
  "GET /api/v1/lookouts/{id}/corrections": () => [],
};
const row = {
  stream: 7,
  metric: "gate_taps",
  title: "Northquay · adult",
  key: "k",
  zone: "UTC",
  state: "steady",
  since: Date.UTC(2026, 4, 1, 8),
  why: "judged through 2026-05-01T08:00:00Z",
  needs: "",
  judged_through: Date.UTC(2026, 4, 1, 8),
  expected_next: null,
  findings: 2,
  late: 0,
};

describe("lookouts", () => {
  it("say over what, and first how many want somebody", async () => {
    serve({
      ...outside,
      "GET /api/v1/lookouts": () => [one, { ...one, id: 5, name: "old", on: false, states: {} }],
    });
    show(<Lookouts />);
    const table = (await screen.findByText(/^last looked/)).closest("table") as HTMLElement;
    const rows = within(table).getAllByRole("row");
    expect(rows[1]?.textContent).toContain("gate_taps, place Northquay");
    expect(rows[1]?.textContent?.replace(/\s+/g, " ")).toMatch(/1 adrift\s?4 steady/);
    expect(rows[2]?.textContent).toContain("switched off");
  });
  it("name where to begin while there is none", async () => {
    serve({ ...outside, "GET /api/v1/lookouts": () => [] });
    show(<Lookouts />);
    expect(await screen.findByText("Nothing keeps watch yet")).toBeTruthy();
  });
  it("count states in the order in which they want somebody", () => {
    expect(stateCounts({ steady: 3, failing: 1, silent: 2 }).map(([s]) => s)).toEqual([
      "failing",
      "silent",
      "steady",
    ]);
    expect(scopeWords({ streams: [1] })).toBe("1 named stream");
    expect(scopeWords({ metric: "a" })).toBe("a");
  });
});

describe("one lookout", () => {
  const open = () =>
    show(
      <Routes>
        <Route path="/" element={<Lookout />} />
      </Routes>,
    );
  it("lists its streams, what is adrift first, and is switched off and ended", async () => {
    const calls = serve({
      ...outside,
      "GET /api/v1/lookouts/{id}": () => one,
      "GET /api/v1/lookouts/{id}/streams": () => [
        row,
        { ...row, stream: 8, title: "Old Pier", state: "adrift", why: "8 sigmas above", late: 3 },
        { ...row, stream: 9, title: "new", state: "learning", needs: "history", judged_through: null },
      ],
      "GET /api/v1/lookouts/{id}/rehearsal": () => [],
      "GET /api/v1/lookouts/{id}/precision": () => ({
        sent: 16,
        real: 10,
        not_real: 3,
        left_out: 1,
        open: 2,
        precision: 10 / 13,
        precision_ci: [0.5, 0.92],
        opened: 9,
        opened_after_s: 720,
      }),
      "PATCH /api/v1/lookouts/{id}": () => ({ ...one, on: false }),
      "DELETE /api/v1/lookouts/{id}": () => undefined,
    });
    open();
    const table = (await screen.findByText("judged through")).closest("table") as HTMLElement;
    const rows = within(table).getAllByRole("row").slice(1);
    expect(rows.map((r) => within(r).getByRole("link").textContent)).toEqual([
      "Old Pier",
      "new",
      "Northquay · adult",
    ]);
    expect(rows[0]?.textContent).toContain("3 late");
    expect(await screen.findByText(/10 of 13 with a verdict were real/)).toBeTruthy();
    expect(screen.getByText(/opened 9 of them, after 12 min/)).toBeTruthy();
    expect(rows[1]?.textContent).toContain("Needs history.");
    expect(rows[1]?.textContent).toContain("nothing yet");
    await userEvent.click(screen.getByRole("button", { name: "Switch it off" }));
    await waitFor(() => expect(calls.find((c) => c.method === "PATCH")?.body).toEqual({ on: false }));
    await userEvent.click(screen.getByRole("button", { name: "End it …" }));
    expect(calls.some((c) => c.method === "DELETE")).toBe(false);
    await userEvent.click(screen.getByRole("button", { name: "End for good" }));
    await waitFor(() => expect(calls.some((c) => c.method === "DELETE")).toBe(true));
  });
});

describe("keeping watch from the workbench", () => {
  const scan = { plan_text: "watchtide: 1\\n" } as never;
  const stream = { id: 7, metric: "gate_taps", title: "Northquay", family: [7, 8] } as never;
  it("takes the plan that stands, for the stream or for its family", async () => {
    const calls = serve({ "POST /api/v1/lookouts": () => one });
    show(<KeepWatch scan={scan} stream={stream} />);
    await userEvent.click(screen.getByRole("button", { name: "On all 2 streams of gate_taps" }));
    expect(await screen.findByText("its lookout")).toBeTruthy();
    expect(calls.find((c) => c.method === "POST")?.body).toEqual({
      name: "gate_taps",
      plan: "watchtide: 1\\n",
      scope: { metric: "gate_taps" },
    });
  });
  it("says why it was refused", async () => {
    serve({
      "POST /api/v1/lookouts": () => {
        throw new Problem(403, "only an analyst may do this", "", "request it from an admin");
      },
    });
    show(<KeepWatch scan={scan} stream={stream} />);
    await userEvent.click(screen.getByRole("button", { name: "On this stream" }));
    expect((await screen.findByRole("alert")).textContent).toContain("only an analyst");
  });
});

describe("a rehearsal", () => {
  const result = {
    weeks: 2,
    plan: "flag: {}",
    from: "2026-11-01T00:00:00Z",
    to: "2026-11-15T00:00:00Z",
    streams: 6,
    samples: 23_983,
    findings: 29,
    notices: 15,
    held: 1,
    silent: 1,
    real: 10,
    not_real: 3,
    left_out: 1,
    open: 1,
    precision: 0.77,
    precision_ci: [0.5, 0.95],
    recall: null,
    recall_ci: null,
    promised_a_week: 0.1,
    seen_a_week: 0.17,
    per_week: [{ begin: "2026-11-01T00:00:00Z", findings: 29, notices: 15, silent: 1 }],
    per_stream: [
      {
        stream: 7,
        title: "Tern Rock",
        metric: "delay",
        findings: 10,
        notices: 9,
        not_real: 2,
        silent: 0,
        why: "",
      },
    ],
  };
  it("says in a sentence what would have been sent, and rehearses another plan", async () => {
    const job = { id: 5, state: "done", done: 6, total: 6, message: "", result };
    const calls = serve({
      "GET /api/v1/lookouts/{id}/rehearsal": () => [job],
      "POST /api/v1/lookouts/{id}/rehearsal": () => ({ ...job, state: "queued" }),
      "GET /api/v1/jobs/{id}": () => job,
    });
    show(<Rehearsal lookout={one as never} />);
    expect(await screen.findByText(/In 2 weeks it would have sent 15 notices: 10 real, 3 not/)).toBeTruthy();
    expect(screen.getByText("0.77 (0.50 to 0.95)")).toBeTruthy();
    expect(screen.getByRole("img", { name: /29 findings, 15 notices/ })).toBeTruthy();
    await userEvent.click(screen.getByRole("button", { name: "its own plan" }));
    await userEvent.type(screen.getByLabelText("Another plan"), " # again");
    await userEvent.selectOptions(screen.getByLabelText("How many weeks"), "8");
    await userEvent.click(screen.getByRole("button", { name: "Rehearse" }));
    await waitFor(() =>
      expect(calls.find((c) => c.method === "POST")?.body).toEqual({ weeks: 8, plan: "flag: {} # again" }),
    );
  });

  it("shows limits with their reasons, puts the widest into the plan, and keeps watch by a rehearsed one", async () => {
    const per_stream = [
      {
        stream: 7,
        title: "Tern Rock",
        metric: "delay",
        unit: "s",
        lower: null,
        upper: 412.5,
        beyond: 3,
        reason: "as usual",
      },
    ];
    const limits = { per_stream, widest: { upper: 412.5 }, plan: "baseline: {kind: fixed}" };
    const job = { id: 5, state: "done", message: "", result: { ...result, is_own: false, limits } };
    const calls = serve({
      "GET /api/v1/lookouts/{id}/rehearsal": () => [job],
      "PATCH /api/v1/lookouts/{id}": () => one,
    });
    show(<Rehearsal lookout={one as never} />);
    const [, cells] = (await screen.findAllByRole("row", { name: /Tern Rock/ })).map((r) => r.textContent);
    expect(cells).toBe("Tern Rock delaynone412.5 s3as usual");
    await userEvent.click(screen.getByRole("button", { name: "Take the widest into the plan" }));
    expect(screen.getByLabelText("Another plan")).toHaveProperty("value", limits.plan);
    await userEvent.click(screen.getByRole("button", { name: "Keep watch by this plan" }));
    await waitFor(() =>
      expect(calls.find((c) => c.method === "PATCH")?.body).toEqual({ plan: "flag: {}", on: true }),
    );
  });
});

describe("routes and the outbox", () => {
  it("make a route to a mail address, which is asked, and asked again", async () => {
    const asked = {
      ...route,
      kind: "mail",
      name: "Duty desk",
      to: "duty@quay.example",
      state: "unconfirmed",
    };
    const calls = serve({
      ...outside,
      "GET /api/v1/routes": () => [asked],
      "GET /api/v1/lookouts": () => [],
      "POST /api/v1/routes": () => ({ ...asked, secret: "" }),
      "POST /api/v1/routes/{id}/ask": () => item,
    });
    show(<Lookouts />);
    expect(await screen.findByText("waits for its yes: notices are held")).toBeTruthy();
    expect(screen.queryByRole("button", { name: "Send a test" })).toBeNull();
    await userEvent.click(screen.getByRole("button", { name: "Make a route" }));
    await userEvent.type(screen.getByLabelText("Name"), "Duty desk");
    await userEvent.type(screen.getByLabelText("Mail address"), "duty@quay.example");
    await userEvent.click(screen.getByRole("button", { name: "Make the route" }));
    expect(await screen.findByText(/gets a mail that asks/)).toBeTruthy();
    expect(calls.find((c) => c.method === "POST")?.body).toEqual({
      kind: "mail",
      name: "Duty desk",
      to: "duty@quay.example",
      points: false,
    });
    await userEvent.click(screen.getByRole("button", { name: "Ask again" }));
    expect(await screen.findByText(/is asked again/)).toBeTruthy();
  });

  it("make a route, show its secret once, and send a test", async () => {
    const calls = serve({
      ...outside,
      "GET /api/v1/lookouts": () => [],
      "POST /api/v1/routes": () => ({ ...route, name: "quay", secret: "whsec_abc" }),
      "POST /api/v1/routes/{id}/test": () => item,
      "POST /api/v1/outbox/{id}/resend": () => item,
    });
    show(<Lookouts />);
    await userEvent.click(await screen.findByRole("button", { name: "Make a route" }));
    await userEvent.selectOptions(screen.getByLabelText("Kind"), "hook");
    await userEvent.type(screen.getByLabelText("Name"), "quay");
    await userEvent.type(screen.getByLabelText("Web address"), "https://quay.example");
    await userEvent.click(screen.getByRole("button", { name: "Make the route" }));
    expect(await screen.findByText("whsec_abc")).toBeTruthy();
    expect(calls.find((c) => c.method === "POST")?.body).toEqual({
      kind: "hook",
      name: "quay",
      to: "https://quay.example",
      points: false,
    });
    await userEvent.click(screen.getByRole("button", { name: "Send a test" }));
    expect(await screen.findByText(/A test is on its way to pager/)).toBeTruthy();
    const line = screen.getByText(/given up/);
    expect(line.textContent).toContain("2 attempts answered 502");
    await userEvent.click(screen.getByRole("button", { name: "Send again" }));
    await waitFor(() => expect(calls.some((c) => c.path.endsWith("/resend"))).toBe(true));
  });
});

describe("corrected history", () => {
  const found = (day: number, score: number) => ({
    start: Date.UTC(2026, 4, day, 8),
    end: Date.UTC(2026, 4, day, 13),
    kind: "outlier",
    direction: "up",
    score,
    raised: Date.UTC(2026, 4, day, 9),
  });
  const correction = {
    id: 1,
    stream: 7,
    metric: "gate_taps",
    title: "Northquay · adult",
    zone: "UTC",
    why: "undone",
    batch: 12,
    source: "taps.csv",
    since: Date.UTC(2026, 4, 2),
    noted_at: Date.UTC(2026, 4, 20),
    judged_at: Date.UTC(2026, 4, 20),
    gone: [found(3, 7.04)],
    come: [],
    changed: [{ before: found(6, 5), now: found(6, 9.25) }],
  };

  const serving = (rows: Record<number, unknown[]>) =>
    serve({
      ...outside,
      "GET /api/v1/lookouts/{id}/corrections": ({ params }) => rows[params?.path?.id as number] ?? [],
    });

  it("says what is no more and what differs, before and now", async () => {
    serving({ 4: [correction] });
    show(<Corrections lookout={4} />);
    const { textContent } = await screen.findByRole("region", { name: "Corrected history" });
    expect(textContent).toContain("taps.csv was taken back, from");
    expect(textContent).toContain("1 finding no more:");
    expect(textContent).toMatch(/1 finding other than before:.* 08:00 to 13:00, 9.3 σ up, was .*, 5.0 σ up/);
  });

  it("says where none differs, where it waits, and nothing without any", async () => {
    const rows = [
      { ...correction, id: 2, why: "imported", gone: [], changed: [] },
      { ...correction, id: 3, judged_at: null },
    ];
    serving({ 4: rows });
    show(
      <>
        <Corrections lookout={4} />
        <Corrections lookout={5} />
      </>,
    );
    const { textContent } = await screen.findByRole("region", { name: "Corrected history" });
    expect(textContent).toContain("No finding differs.");
    expect(textContent).toContain("is being judged anew");
    expect(textContent).toContain("brought earlier samples");
    expect(screen.getAllByRole("region")).toHaveLength(1);
  });
});
