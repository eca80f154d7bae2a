import { fireEvent, screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it, vi } from "vitest";
import * as client from "../api/client";
import { Problem } from "../api/client";
import { show, writeMoment } from "../test/helper";
import { serve } from "../test/serve";
import Effect from "./logbook/Effect";
import { EntryForm } from "./logbook/EntryForm";
import { scopeWords } from "./logbook/EntryRow";
import Logbook from "./logbook/Logbook";

const entry = (id: number, changes = {}) => ({
  id,
  scope: "metric=gate_taps,place=Gullhaven",
  start: Date.parse("2026-08-15T10:00:00Z"),
  end: Date.parse("2026-08-15T20:00:00Z"),
  verdict: "foreseen",
  kind: "spike",
  cause: `cause ${id}`,
  note: "",
  author: "M. Rask",
  origin: "independent",
  created_at: Date.parse("2026-09-01T00:00:00Z"),
  ...changes,
});

const bars = [{ id: 1, start: Date.UTC(2026, 7, 15), end: Date.UTC(2026, 7, 16), verdict: "incident" }];
const routes = {
  "GET /api/v1/logbook": () => ({ items: [entry(1), entry(2)], next: null, total: 2, version: 9 }),
  "GET /api/v1/logbook/quiet": () => [],
  "GET /api/v1/logbook/lanes": () => ({
    lanes: [{ scope: "metric=gate_taps", count: 1, entries: bars }],
    others: 3,
    first: Date.UTC(2026, 7, 1),
    last: Date.UTC(2026, 8, 1),
  }),
};

describe("the logbook at work", () => {
  it("changes all ticked entries in one go, and undoes that", async () => {
    const calls = serve({
      ...routes,
      "POST /api/v1/logbook/bulk": () => ({ id: 31 }),
      "POST /api/v1/logbook/changes/{id}/undo": () => ({ undone: 1, left: 1 }),
    });
    show(<Logbook />);
    await userEvent.click(await screen.findByLabelText("Tick all that are shown"));
    const bar = within(screen.getByRole("toolbar", { name: "Ticked entries" }));
    expect(bar.getByText("2 entries ticked:")).toBeTruthy();
    fireEvent.change(bar.getByLabelText("make them"), { target: { value: "incident" } });
    await userEvent.click(await screen.findByRole("button", { name: "Undo" }));
    expect(await screen.findByText(/Undone for 1 entry; 1 were changed again since/)).toBeTruthy();
    expect(calls.find((c) => c.path === "/api/v1/logbook/bulk")?.body).toEqual({
      take_out: false,
      verdict: "incident",
      entries: [1, 2],
    });
  });
  it("shows entries over time; a bar chooses its span", async () => {
    const calls = serve(routes);
    show(<Logbook />);
    const lanes = within(await screen.findByRole("region", { name: "Entries over time" }));
    expect(lanes.getByText("gate_taps")).toBeTruthy();
    expect(lanes.getByText(/3 entries of further scopes/)).toBeTruthy();
    await userEvent.click(lanes.getByRole("button", { name: /incident, Sat 15 Aug/ }));
    await waitFor(() => expect(calls.some((c) => c.path === "/api/v1/logbook" && c.query?.from)).toBe(true));
    expect(await screen.findByRole("button", { name: "Show all" })).toBeTruthy();
  });
  it("says what a file would do before it is taken in, and what is wrong with one by its line", async () => {
    serve(routes);
    const sent: Record<string, string>[] = [];
    const send = vi.spyOn(client, "sendFile").mockImplementation((async (
      url: string,
      _file: File,
      fields: Record<string, string> = {},
    ) => {
      sent.push({ url, ...fields });
      if (url.endsWith("/look"))
        return {
          new: 1,
          same: 4,
          changes: 1,
          rows: [
            {
              number: 2,
              state: "changes",
              scope: "metric=gate_taps",
              start: Date.parse("2026-08-15T10:00:00Z"),
              end: Date.parse("2026-08-15T20:00:00Z"),
              verdict: "incident",
              cause: "",
              entry: 1,
              changed: [{ name: "cause", before: "market", after: "" }],
            },
          ],
        };
      return { added: 1, changed: 1, skipped: 4, change_set: 5 };
    }) as never);
    show(<Logbook />);
    await userEvent.click(await screen.findByRole("button", { name: "Import labels" }));
    const file = new File(["start\n"], "l.csv");
    fireEvent.change(screen.getByLabelText("Labels file"), { target: { files: [file] } });
    expect(await screen.findByText("cause: market → –")).toBeTruthy();
    fireEvent.change(screen.getByLabelText("What becomes of them"), { target: { value: "change" } });
    await userEvent.click(screen.getByRole("button", { name: "Take it in" }));
    expect(await screen.findByText(/1 entry taken in, 1 entry changed, 4 left out/)).toBeTruthy();
    expect(sent.at(-1)).toMatchObject({ url: "/api/v1/logbook/import", matches: "change" });
    send.mockRejectedValue(
      new Problem(400, "no time", "l.csv, line 3, column start", "write 2026-08-03T00:00Z"),
    );
    await userEvent.click(screen.getByRole("button", { name: "Import labels" }));
    fireEvent.change(screen.getByLabelText("Labels file"), { target: { files: [file] } });
    expect((await screen.findByRole("alert")).textContent).toContain("line 3, column start");
    send.mockRestore();
  });
  it("keeps a scope quiet until planned work is over", async () => {
    const calls = serve({
      ...routes,
      "GET /api/v1/logbook/quiet": () => [
        {
          id: 6,
          scope: "metric=cold_hold_temp",
          start: Date.parse("2026-01-01T00:00:00Z"),
          end: Date.parse("2099-01-01T00:00:00Z"),
          reason: "seal",
          by: "ann",
          at: "",
          ended_by: "",
        },
      ],
      "POST /api/v1/logbook/quiet": () => ({ id: 7 }),
      "DELETE /api/v1/logbook/quiet/{id}": () => undefined,
    });
    show(<Logbook />);
    await userEvent.click(await screen.findByRole("button", { name: "End it now" }));
    await userEvent.click(screen.getByRole("button", { name: "Quiet until …" }));
    await writeMoment("Until", "1 Feb 2099", "00:30");
    await userEvent.type(screen.getByLabelText("Because of"), "crane");
    await userEvent.click(screen.getByRole("button", { name: "Keep quiet" }));
    await waitFor(() => expect(calls.filter((c) => c.method === "POST")).toHaveLength(1));
    expect(calls.find((c) => c.method === "POST")?.body).toMatchObject({
      reason: "crane",
      scope: "",
      end: new Date("2099-02-01T00:30").getTime(),
    });
    expect(calls.some((c) => c.method === "DELETE")).toBe(true);
  });
  it("writes an entry over the span that was drawn, to the second", async () => {
    const calls = serve({ "POST /api/v1/logbook": () => entry(9) });
    const done = vi.fn();
    const from = Date.UTC(2026, 7, 15, 10, 0, 30);
    show(<EntryForm scope="metric=a" from={from} to={from + 3_600_000} onDone={done} />);
    await userEvent.type(screen.getByLabelText("Cause"), "gust");
    await userEvent.click(screen.getByRole("button", { name: "Write it down" }));
    await waitFor(() => expect(done).toHaveBeenCalled());
    expect(calls[0]?.body).toMatchObject({
      scope: "metric=a",
      start: Date.parse("2026-08-15T10:00:30.000Z"),
      end: Date.parse("2026-08-15T11:00:30.000Z"),
      cause: "gust",
      verdict: "incident",
    });
  });
  it("shows what entries change, stream by stream", async () => {
    serve({
      "GET /api/v1/scans/{id}": () => ({ id: 2, state: "done" }),
      "GET /api/v1/logbook/effect": () => ({
        before: 1,
        after: 2,
        streams: [
          {
            stream: 7,
            name: "gate_taps · Northquay",
            moved: 0.21,
            band: 0.8,
            left_out_before: 1,
            left_out_after: 3,
            kept: 4,
            gone: [[0, 1]],
            new: [],
          },
        ],
      }),
      "GET /api/v1/comparison": () => ({ scans: [] }),
    });
    show(<Effect />);
    expect(await screen.findByText("1 finding goes, 0 findings come.")).toBeTruthy();
    expect(screen.getByText("80 %")).toBeTruthy();
    expect(screen.getByText("1 → 3")).toBeTruthy();
  });
  it("names scopes without the word that all of them share", () => {
    expect(scopeWords("metric=gate_taps,place=Old Pier")).toBe("gate_taps, place Old Pier");
    expect(scopeWords("place=Old Pier,metric=gate_taps")).toBe("place Old Pier, gate_taps");
    expect(scopeWords("")).toBe("every stream");
  });
});
