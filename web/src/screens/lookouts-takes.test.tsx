import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import { show } from "../test/helper";
import { serve } from "../test/serve";
import { Limit } from "./lookouts/Limit";
import { Routes } from "./lookouts/Routes";
import { attributesOf, daysInWords, takesInWords } from "./lookouts/takes";

const route = {
  id: 3,
  kind: "chat",
  name: "duty",
  to: "https://chat.example/in",
  state: "ready",
  points: false,
  takes: {},
  most_an_hour: null,
  failing_since: null,
  failures: 0,
  last_detail: "",
  created_by: "ann",
  created_at: "2026-05-01T08:00:00Z",
};

describe("what a route takes, in words", () => {
  it("names days by their runs", () => {
    expect(daysInWords([5, 1, 2, 3, 4])).toBe("Mon to Fri");
    expect(daysInWords([6, 7])).toBe("Sat, Sun");
    expect(daysInWords([1, 2, 3, 6])).toBe("Mon to Wed, Sat");
    expect(daysInWords([1, 2, 3, 4, 5, 6, 7])).toBe("every day");
  });
  it("says everything that is left out, and nothing else", () => {
    expect(takesInWords({ takes: {}, most_an_hour: null })).toBe("everything, at any hour");
    const takes = {
      metrics: ["gate_taps"],
      attributes: { place: "Northquay" },
      sides: "bad" as const,
      least: 6,
      hours: [{ days: [1, 2, 3, 4, 5], opens: "18:00", closes: "08:00" }],
      zone: "Europe/Dublin",
    };
    expect(takesInWords({ takes, most_an_hour: 1 })).toBe(
      "gate_taps, place Northquay; the bad side only; from 6 sigmas on; Mon to Fri 18:00 to 08:00; Europe/Dublin; at most 1 notice an hour, the rest joined",
    );
  });
  it("reads attributes as people write them", () => {
    expect(attributesOf("place Old Pier, fare=adult, , loose")).toEqual({ place: "Old Pier", fare: "adult" });
  });
});

describe("the form", () => {
  it("keeps families, size and hours", async () => {
    const calls = serve({
      "GET /api/v1/routes": () => [route],
      "GET /api/v1/calendars": () => [],
      "PATCH /api/v1/routes/{id}": () => ({ ...route, takes: { least: 6 } }),
    });
    const user = userEvent.setup();
    show(<Routes />);
    await user.click(await screen.findByRole("button", { name: "What it takes" }));
    const form = screen.getByRole("form", { name: "What duty takes" });
    await user.type(within(form).getByRole("combobox", { name: "Families" }), "gate_taps{enter}");
    await user.type(within(form).getByLabelText("From how many sigmas on"), "6");
    await user.click(within(form).getByRole("button", { name: "Add hours" }));
    await user.click(within(form).getByRole("button", { name: "Keep this" }));
    await waitFor(() => expect(calls.some((c) => c.method === "PATCH")).toBe(true));
    const sent = calls.find((c) => c.method === "PATCH")?.body as { takes: object; most_an_hour: null };
    expect(sent.most_an_hour).toBeNull();
    expect(sent.takes).toMatchObject({
      metrics: ["gate_taps"],
      least: 6,
      hours: [{ days: [1, 2, 3, 4, 5], opens: "18:00", closes: "08:00" }],
    });
  });
});

describe("a limit", () => {
  it("is stated as a sentence", async () => {
    const calls = serve({ "PATCH /api/v1/lookouts/{id}": () => ({}) });
    const user = userEvent.setup();
    show(<Limit lookout={{ id: 4, limit: {} } as never} />);
    await user.click(screen.getByRole("button", { name: "Foresee a limit" }));
    await user.type(screen.getByLabelText("limit, in the unit of the stream"), "8.5");
    await user.click(screen.getByRole("button", { name: "Keep this" }));
    await waitFor(() => expect(calls.length).toBe(1));
    expect(calls[0]?.body).toEqual({ limit: { above: 8.5, within: "24h" } });
  });
});
