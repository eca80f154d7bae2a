import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { beforeEach, describe, expect, it, vi } from "vitest";
import type { Schema } from "../api/client";
import { show } from "../test/helper";
import { serve } from "../test/serve";
import Identity from "./intake/Identity";
import { IdentityEffect } from "./intake/IdentityEffect";
import { moved, renamesOf, renamesToText, sentence } from "./intake/rules";

beforeEach(() => {
  vi.restoreAllMocks();
});

const RULE: Schema["IdentityRule"] = {
  metric: "*",
  keep: [],
  drop: ["service.instance.id", "process.pid"],
  rename: [],
  join: "auto",
  note: "Changes with every process.",
};

function anEffect(changes: Partial<Schema["IdentityEffect"]> = {}): Schema["IdentityEffect"] {
  return {
    before: 5,
    after: 2,
    merged: 1,
    streams: [
      {
        key: "metric=pilots,service.name=desk",
        metric: "pilots",
        attributes: [["service.name", "desk"]],
        join: "auto",
        sources: [],
        source_count: 4,
        was: ["metric=pilots,service.name=desk,pod=a", "metric=pilots,service.name=desk,pod=b"],
        is_merged: true,
        is_new: true,
        units: [],
      },
    ],
    problems: [],
    messages: 12,
    is_part: false,
    ...changes,
  };
}

describe("identity rules", () => {
  it("are tried on the last hour, applied, and undone", async () => {
    const calls = serve({
      "GET /api/v1/identity": () => ({
        rules: [RULE],
        is_default: false,
        versions: [
          {
            id: 4,
            by: "ann",
            created_at: Date.parse("2026-08-22T09:00:00Z"),
            undone_at: null,
            streams: 3,
            can_undo: true,
          },
        ],
      }),
      "POST /api/v1/identity/preview": () => anEffect(),
      "PUT /api/v1/identity": () => ({ version: {}, job: { id: 9, state: "queued" } }),
      "POST /api/v1/identity/{id}/undo": () => ({ id: 10, state: "queued" }),
      "GET /api/v1/jobs/{id}": () => ({ id: 9, state: "done", message: "" }),
    });
    const sent = (path: string) => calls.find((c) => `${c.method} ${c.path}` === path)?.body;
    const person = userEvent.setup();
    show(<Identity />);
    expect(await screen.findByText("drop service.instance.id, process.pid")).toBeTruthy();
    const apply = () => screen.getByRole("button", { name: "Apply these rules" }) as HTMLButtonElement;
    expect(apply().disabled).toBe(true);
    await person.click(screen.getByRole("button", { name: "Add a rule on top" }));
    await person.type(screen.getByRole("combobox", { name: "Drop attributes" }), "pod{Enter}");
    await person.click(screen.getByRole("button", { name: "Try on the last hour" }));
    expect(await screen.findByText(/would combine several/)).toBeTruthy();
    const tried = sent("POST /api/v1/identity/preview") as { rules: Schema["IdentityRule"][] };
    expect(tried.rules.map((r) => r.drop)).toEqual([["pod"], RULE.drop]);
    await person.click(apply());
    await waitFor(() => expect(sent("PUT /api/v1/identity")).toEqual(tried));
    expect(await screen.findByText(/history of joined streams is combined/)).toBeTruthy();
    await person.click(screen.getByRole("button", { name: "Undo" }));
    await waitFor(() => expect(calls.some((c) => c.path === "/api/v1/identity/{id}/undo")).toBe(true));
  });

  it("say what stands in their way", () => {
    show(<IdentityEffect effect={anEffect({ problems: ["metric=a would join streams in s and m"] })} />);
    expect(within(screen.getByRole("alert")).getByText(/would join streams in s and m/)).toBeTruthy();
  });

  it("say that there is nothing to try them on", () => {
    show(<IdentityEffect effect={anEffect({ messages: 0, streams: [] })} />);
    expect(screen.getByText(/nothing to try the rules on/)).toBeTruthy();
  });

  it("read as sentences, and keep their order", () => {
    expect(sentence({ ...RULE, drop: ["a", "b", "c", "d", "e"], join: "max" })).toBe(
      "drop a, b, c and 2 more; combine senders by the largest",
    );
    expect(sentence({ ...RULE, drop: [], rename: [["pod", "place"]] })).toBe("rename pod to place");
    expect(renamesOf(renamesToText([["pod", "place"]]))).toEqual([["pod", "place"]]);
    expect(renamesOf(["nothing", "a="])).toEqual([]);
    expect(moved(["a", "b", "c"], 2, -1)).toEqual(["a", "c", "b"]);
    expect(moved(["a"], 0, -1)).toEqual(["a"]);
  });
});
