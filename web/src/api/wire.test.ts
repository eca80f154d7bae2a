import { afterEach, describe, expect, it, vi } from "vitest";
import { api, get, queryOf } from "./client";
import { fromWire, iso, toWire } from "./wire";

const NINE = Date.UTC(2026, 7, 22, 9, 15);

afterEach(() => vi.unstubAllGlobals());

describe("times on the wire", () => {
  it("become milliseconds, alone, in lists and in rows, to the microsecond", () => {
    expect(
      fromWire({
        start: "2026-08-22T09:15:00Z",
        end: null,
        time: ["2026-08-22T09:15:00.000Z", "2026-08-22T09:15:00.000250Z"],
        findings: [{ peak: "2026-08-22T09:15:00.5Z" }],
      }),
    ).toEqual({ start: NINE, end: null, time: [NINE, NINE + 0.25], findings: [{ peak: NINE + 500 }] });
  });
  it("become milliseconds in a row of times, whatever its names", () => {
    expect(fromWire({ reached_with: { "0.1": "2026-08-22T09:15:00Z", "0.5": null } })).toEqual({
      reached_with: { "0.1": NINE, "0.5": null },
    });
  });
  it("are left alone where a person wrote them, and in rows whose names are free", () => {
    const answer = {
      note: "2026-08-22T09:15:00Z",
      plan_data: { train: { from: "2026-08-22T09:15:00Z" } },
      roles: { start: "time" },
    };
    expect(fromWire(structuredClone(answer))).toEqual(answer);
  });
  it("go out as they came in", () => {
    for (const text of [
      "2026-08-22T09:15:00.000Z",
      "1969-12-31T23:59:59.999Z",
      "2026-08-22T09:15:00.000250Z",
    ]) {
      expect(toWire(fromWire({ start: text }))).toEqual({ start: text });
    }
    expect(iso(NINE + 0.9999)).toBe("2026-08-22T09:15:00.001Z");
  });
  it("go out in addresses and bodies alike", async () => {
    const sent: Request[] = [];
    vi.stubGlobal("fetch", undefined);
    const fetch = async (request: Request) => {
      sent.push(request);
      return new Response('{"items": [{"start": "2026-08-22T09:15:00Z"}], "next": null}');
    };
    const options = { baseUrl: "http://x", fetch };
    const page = await get(
      api.GET("/api/v1/logbook", { params: { query: { from: NINE, limit: 5 } }, ...options }),
    );
    expect(page.items[0]?.start).toBe(NINE);
    await api.POST("/api/v1/logbook", {
      body: { start: NINE, end: NINE, verdict: "incident", note: "at 1787390100000" },
      ...options,
    });
    expect(new URL(sent[0]?.url ?? "").searchParams.get("from")).toBe("2026-08-22T09:15:00.000Z");
    expect(await sent[1]?.json()).toMatchObject({
      start: "2026-08-22T09:15:00.000Z",
      note: "at 1787390100000",
    });
    expect(queryOf({ from: NINE, verdict: "incident", to: undefined })).toBe(
      "from=2026-08-22T09%3A15%3A00.000Z&verdict=incident",
    );
  });
});
