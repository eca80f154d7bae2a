import { fireEvent, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Route, Routes } from "react-router";
import { describe, expect, it, vi } from "vitest";
import { Problem } from "../api/client";
import { aFinding, aPreview, show, writeMoment } from "../test/helper";
import { serve } from "../test/serve";
import Intake from "./intake/Intake";
import Logbook from "./logbook/Logbook";
import Review from "./review/Review";
import type { Item, Round } from "./review/words";
import SignIn from "./sign-in/SignIn";
import { Columns, FleetSwitch } from "./tide-table/Choices";
import TideTable from "./tide-table/TideTable";

const entry = {
  id: 4,
  scope: "metric=gate_taps,place=Gullhaven",
  start: Date.parse("2026-08-15T10:00:00Z"),
  end: Date.parse("2026-08-15T20:00:00Z"),
  verdict: "foreseen",
  kind: "spike",
  cause: "islanders' market",
  note: "",
  author: "M. Rask",
  origin: "independent",
  created_at: Date.parse("2026-09-01T00:00:00Z"),
};

describe("signing in", () => {
  it("says why it was refused, and clears the password only", async () => {
    serve({
      "POST /api/v1/session": () => {
        throw new Problem(403, "name and password do not match", "password", "try again");
      },
    });
    show(<SignIn isDemo={true} />);
    await userEvent.type(screen.getByLabelText("Name"), "demo");
    await userEvent.type(screen.getByLabelText("Password"), "demon");
    await userEvent.click(screen.getByRole("button", { name: "Sign in" }));
    expect((await screen.findByRole("alert")).textContent).toContain("name and password do not match");
    expect((screen.getByLabelText("Name") as HTMLInputElement).value).toBe("demo");
    expect((screen.getByLabelText("Password") as HTMLInputElement).value).toBe("");
  });
});

describe("the tide table", () => {
  it("says what to do when there is nothing yet", async () => {
    serve({
      "GET /api/v1/tide": () => ({
        rows: [],
        families: [],
        streams: 0,
        strongest: [],
        open: 0,
        new: 0,
        zone: "UTC",
        span_from: null,
        span_to: null,
        last_looked: null,
      }),
    });
    show(<TideTable />);
    expect((await screen.findByRole("link", { name: "Bring in a file" })).getAttribute("href")).toBe(
      "/intake",
    );
  });
  it("offers to try again when the server cannot be reached", async () => {
    serve({
      "GET /api/v1/tide": () => {
        throw new TypeError("fetch failed");
      },
    });
    show(<TideTable />);
    expect(await screen.findByText("The server cannot be reached")).toBeTruthy();
    expect(screen.getByRole("button", { name: "Try again" })).toBeTruthy();
  });
});

describe("choices of the tide table", () => {
  it("hold the fleet's share of false ones, and say how many are held back", async () => {
    const change = vi.fn();
    show(<FleetSwitch rate={0.1} heldBack={7} promise="of the stream-blocks" onChange={change} />);
    expect(screen.getByRole("status").textContent).toContain("7 findings held back");
    await userEvent.selectOptions(screen.getByLabelText(/Across the fleet/), "0.05");
    expect(change).toHaveBeenLastCalledWith(0.05);
    await userEvent.selectOptions(screen.getByLabelText(/Across the fleet/), "");
    expect(change).toHaveBeenLastCalledWith(null);
  });
  it("keep a person's columns on the server, in the table's order", async () => {
    const calls = serve({ "PUT /api/v1/tide/columns": () => undefined });
    show(<Columns chosen={["value", "owner"]} />);
    await userEvent.click(screen.getByRole("button", { name: "Columns" }));
    await userEvent.click(await screen.findByLabelText("state"));
    expect(calls[0]?.body).toEqual({ columns: ["value", "state", "owner"] });
    await userEvent.click(screen.getByLabelText("last value"));
    expect(calls[1]?.body).toEqual({ columns: ["owner"] });
  });
});

describe("the logbook", () => {
  const page = { items: [entry], next: null, total: 1, version: 9 };
  it("changes a verdict and a cause in place", async () => {
    const calls = serve({ "GET /api/v1/logbook": () => page, "PATCH /api/v1/logbook/{id}": () => entry });
    show(<Logbook />);
    fireEvent.change(await screen.findByLabelText("Verdict, islanders' market"), {
      target: { value: "incident" },
    });
    const cause = screen.getByLabelText("Cause, metric=gate_taps,place=Gullhaven");
    await userEvent.clear(cause);
    await userEvent.type(cause, "market day{Enter}");
    const sent = calls.filter((c) => c.method === "PATCH").map((c) => c.body as typeof entry);
    expect(sent[0]?.verdict).toBe("incident");
    expect(sent[1]?.cause).toBe("market day");
  });
  it("takes an entry out and puts it back", async () => {
    const calls = serve({
      "GET /api/v1/logbook": () => page,
      "DELETE /api/v1/logbook/{id}": () => undefined,
      "POST /api/v1/logbook/{id}/restore": () => entry,
    });
    show(<Logbook />);
    await userEvent.click(await screen.findByRole("button", { name: "Take out islanders' market" }));
    await userEvent.click(await screen.findByRole("button", { name: "Put it back" }));
    expect(await screen.findByText("Put back.")).toBeTruthy();
    expect(calls.filter((c) => c.method !== "GET").map((c) => c.method)).toEqual(["DELETE", "POST"]);
  });
  it("shows what an entry was and makes it so again", async () => {
    const calls = serve({
      "GET /api/v1/logbook": () => page,
      "GET /api/v1/logbook/{id}/revisions": () => [
        {
          id: 9,
          action: "change",
          by: "mate",
          at: Date.parse("2026-11-16T10:00:00Z"),
          changed: [
            { name: "verdict", before: "incident", after: "foreseen" },
            { name: "cause", before: "", after: "market" },
          ],
        },
        { id: 8, action: "add", by: "demo", at: Date.parse("2026-11-16T09:00:00Z"), changed: [] },
      ],
      "POST /api/v1/logbook/{id}/revisions/{revision}/return": () => entry,
    });
    show(<Logbook />);
    await userEvent.click(await screen.findByRole("button", { name: "History of islanders' market" }));
    expect(
      await screen.findByText(/changed verdict from incident to foreseen, cause from nothing to “market”/),
    ).toBeTruthy();
    const back = screen.getAllByRole("button", { name: "Make it so again" });
    expect(back).toHaveLength(1);
    await userEvent.click(back[0] as HTMLElement);
    await waitFor(() => expect(calls.some((c) => c.path.endsWith("/return"))).toBe(true));
  });
  it("writes an entry with times in UTC and tells why one was refused", async () => {
    const calls = serve({
      "GET /api/v1/logbook": () => page,
      "POST /api/v1/logbook": () => {
        throw new Problem(400, "the entry ends before it starts", "end", "swap start and end");
      },
    });
    show(<Logbook />);
    await userEvent.click(await screen.findByRole("button", { name: "Write an entry" }));
    await writeMoment("From", "15 Aug 2026", "11:00");
    await writeMoment("To", "2026-08-14", "11:00");
    await userEvent.click(screen.getByRole("button", { name: "Write it down" }));
    expect((await screen.findByRole("alert")).textContent).toContain("swap start and end");
    const body = calls.find((c) => c.method === "POST")?.body as { start: string };
    expect(body.start).toBe(new Date("2026-08-15T11:00").getTime());
  });
});

describe("review", () => {
  const context = { finding: aFinding(), beside: [], before: [], entries: [], causes: ["storm"] };
  const anItem = (changes: Partial<Item> = {}): Item => ({
    id: 7,
    place: 0,
    stream: 1,
    scan: 1,
    metric: "gate_taps",
    title: "Northquay · adult",
    scope: "metric=gate_taps,place=Northquay,fare=adult",
    unit: "taps",
    zone: "Europe/Dublin",
    step_s: 900,
    start: Date.UTC(2026, 7, 22, 8),
    end: Date.UTC(2026, 7, 22, 9),
    stratum: "",
    probability: null,
    is_second: false,
    finding: aFinding(),
    incident: null,
    ...changes,
  });
  const aRound: Round = {
    id: 1,
    scan: 1,
    plan: "harbour watch v1",
    kind: "strongest",
    metric: "",
    created_by: "demo",
    created_at: Date.UTC(2026, 10, 16, 10),
    total: 3,
    judged: 1,
    passed_over: 0,
    second_looks: 0,
    left: 2,
    share: 1,
    share_ci: [0.21, 1],
    counts: [1, 1],
    half: 0.4,
    half_at_end: 0.23,
    agreement: { n: 0, same: 0, kappa: null },
    disputed: [],
  };
  const routes = (items: (Item | null)[], round: Partial<Round> = {}) => ({
    "GET /api/v1/rounds/{id}": () => ({ ...aRound, ...round }),
    "POST /api/v1/rounds/{id}/next": () => ({ item: items.length > 1 ? items.shift() : items[0] }),
    "GET /api/v1/findings/{id}": () => context,
    "GET /api/v1/findings/{id}/explain": () => {
      throw new Problem(409, "not here", "", "");
    },
    "GET /api/v1/scans/{id}/streams/{stream}/window": () => {
      throw new Problem(409, "the samples have changed since this scan", "", "scan again");
    },
  });
  const open = () =>
    show(
      <Routes>
        <Route path="*" element={<Review />} />
      </Routes>,
    );
  const verdicts = (calls: ReturnType<typeof serve>) =>
    calls.filter((c) => c.path.endsWith("/verdict")).map((c) => c.body);
  it("judges by one key, goes on, and takes back by another", async () => {
    const calls = serve({
      ...routes([anItem(), anItem({ id: 8, title: "Gullhaven · adult" })]),
      "POST /api/v1/rounds/{id}/items/{item}/verdict": () => ({ entry: null, also: 0 }),
      "POST /api/v1/rounds/{id}/undo": () => ({ item: anItem() }),
    });
    open();
    expect(await screen.findByRole("heading", { name: "Northquay · adult" })).toBeTruthy();
    await userEvent.type(screen.getByLabelText(/Cause/), "counted twice{Enter}");
    await userEvent.keyboard("[[[[i");
    expect(await screen.findByRole("heading", { name: "Gullhaven · adult" })).toBeTruthy();
    expect(verdicts(calls)).toEqual([
      {
        verdict: "incident",
        cause: "counted twice",
        note: "",
        rest: false,
        start: Date.UTC(2026, 7, 22, 7, 30),
      },
    ]);
    expect(screen.getByText("Incident: Northquay · adult.")).toBeTruthy();
    await userEvent.keyboard("z");
    expect(await screen.findByRole("heading", { name: "Northquay · adult" })).toBeTruthy();
  });
  it("cuts a span in two and never past its edges", async () => {
    const calls = serve({
      ...routes([anItem()]),
      "POST /api/v1/rounds/{id}/items/{item}/verdict": () => ({ entry: null, also: 0 }),
    });
    open();
    await screen.findByRole("heading", { name: "Northquay · adult" });
    await userEvent.keyboard("s>>>>>>x");
    await waitFor(() => expect(verdicts(calls)).toHaveLength(1));
    expect(verdicts(calls)[0]).toMatchObject({ verdict: "false-alarm", split: Date.UTC(2026, 7, 22, 9) });
  });
  it("offers the same for the rest of the incident, and spans another set of words", async () => {
    const incident = { id: 4, finding: 1, title: "Feed counted twice", state: "open", streams: 18, open: 17 };
    const calls = serve({
      ...routes([anItem({ incident })], { kind: "sample" }),
      "POST /api/v1/rounds/{id}/items/{item}/verdict": () => ({ entry: null, also: 17 }),
    });
    const seen = open();
    await screen.findByText("Feed counted twice");
    await userEvent.keyboard("rf");
    await waitFor(() => expect(verdicts(calls)[0]).toMatchObject({ verdict: "foreseen", rest: true }));
    expect(await screen.findByText(/and 17 others of the incident/)).toBeTruthy();
    seen.unmount();
    serve(routes([anItem({ finding: null, probability: 0.1, stratum: "unflagged" })], { kind: "unflagged" }));
    open();
    expect(await screen.findByText("Nothing there")).toBeTruthy();
    expect(screen.getByText(/drawn by chance, p = 0.10/)).toBeTruthy();
  });
  it("types a letter into the cause without judging", async () => {
    const calls = serve(routes([anItem()]));
    open();
    await userEvent.type(await screen.findByLabelText(/Cause/), "fixx");
    expect(verdicts(calls)).toEqual([]);
  });
  it("says so when the scan can no longer be shown, and when all is done", async () => {
    serve(routes([anItem()]));
    const seen = open();
    expect(await screen.findByText("the samples have changed since this scan")).toBeTruthy();
    seen.unmount();
    serve(routes([null], { left: 0 }));
    open();
    expect(await screen.findByText("Every one has its verdict")).toBeTruthy();
  });
});

describe("intake of a file", () => {
  const at = (routes: Parameters<typeof serve>[0]) => {
    const calls = serve({ "GET /api/v1/batches": () => [], ...routes });
    window.history.pushState({}, "", "/");
    show(
      <Routes>
        <Route path="*" element={<Intake />} />
      </Routes>,
    );
    return calls;
  };
  it("asks for a file when there is none, by keyboard too", async () => {
    at({});
    expect(await screen.findByLabelText("Choose a file")).toBeTruthy();
    expect(screen.getByText(/Nothing is stored before/)).toBeTruthy();
  });
  it("shows the guess after a file was handed in, and stores it with what was chosen", async () => {
    const calls = at({
      "POST /api/v1/uploads/{id}/preview": () => aPreview(),
      "POST /api/v1/uploads/{id}/store": () => ({ id: 8 }),
      "GET /api/v1/jobs/{id}": () => ({ id: 8, state: "done", result: { first_stream: 5 } }),
    });
    globalThis.fetch = async () => new Response(JSON.stringify({ id: 3 }), { status: 201 });
    await userEvent.upload(await screen.findByLabelText("Choose a file"), new File(["a"], "taps.csv"));
    expect(await screen.findByText(/2 streams, every 15m/)).toBeTruthy();
    await userEvent.type(screen.getByPlaceholderText("taps / 15 min"), "m");
    await userEvent.click(screen.getByRole("button", { name: "Store only" }));
    await waitFor(() => expect(calls.some((c) => c.path.endsWith("/store"))).toBe(true));
    const body = calls.find((c) => c.path.endsWith("/store"))?.body as { unit: string; then_scan: boolean };
    expect([body.unit, body.then_scan]).toEqual(["m", false]);
    expect((await screen.findByRole("link", { name: "Open the first stream" })).getAttribute("href")).toBe(
      "/workbench/5",
    );
  });
});
