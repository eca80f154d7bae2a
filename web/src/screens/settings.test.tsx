import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import { show } from "../test/helper";
import { serve } from "../test/serve";
import { People } from "./settings/People";
import { browserOf, Sessions } from "./settings/Sessions";
import Settings from "./settings/Settings";
import { bytes } from "./settings/Storage";
import Join from "./sign-in/Join";

const person = () => userEvent.setup();

const somebody = (more: object) => ({
  id: 1,
  name: "maud",
  full_name: "Maud Rask",
  role: "admin",
  state: "active",
  last_seen_at: Date.parse("2026-11-28T10:00:00Z"),
  link_ends_at: null,
  disabled_at: null,
  sessions: 1,
  ...more,
});
const tam = somebody({
  id: 4,
  name: "tam",
  full_name: "Tam Keel",
  role: "viewer",
  state: "invited",
  last_seen_at: null,
});
const all = [
  somebody({}),
  somebody({ id: 2, name: "ivo", full_name: "Ivo Sund", role: "analyst" }),
  somebody({ id: 3, name: "kit", full_name: "Kit Orrin", role: "viewer", state: "disabled" }),
  tam,
];

describe("people", () => {
  it("are counted by role and state, and nobody changes their own", async () => {
    serve({ "GET /api/v1/people": () => all });
    show(<People own="maud" />);
    expect(await screen.findByText("1 admin, 1 analyst, 1 viewer; 1 invited, 1 disabled")).toBeTruthy();
    expect(screen.queryByLabelText("Role of maud")).toBeNull();
    expect(screen.queryByLabelText("Disable maud")).toBeNull();
    expect(screen.getByText("now; this is you")).toBeTruthy();
    expect(screen.getByText("invited; the link is over")).toBeTruthy();
  });

  it("get another role in place, are disabled and enabled", async () => {
    const calls = serve({ "GET /api/v1/people": () => all, "PATCH /api/v1/people/{id}": () => all[1] });
    show(<People own="maud" />);
    await person().selectOptions(await screen.findByLabelText("Role of ivo"), "viewer");
    await person().click(screen.getByLabelText("Disable ivo"));
    await person().click(screen.getByLabelText("Enable kit"));
    const sent = calls.filter((c) => c.method === "PATCH").map((c) => c.body);
    expect(sent).toEqual([{ role: "viewer" }, { is_active: false }, { is_active: true }]);
  });

  it("are invited by a link that is shown once", async () => {
    const made = {
      person: { ...tam, link_ends_at: Date.parse("2027-01-02T10:00:00Z") },
      purpose: "invitation",
      link: "wtl_secret",
    };
    const calls = serve({ "GET /api/v1/people": () => all, "POST /api/v1/people": () => made });
    show(<People own="maud" />);
    await person().click(await screen.findByText("Invite somebody"));
    const dialog = await screen.findByRole("dialog");
    await person().type(within(dialog).getByLabelText(/Signs in as/), "tam");
    await person().type(within(dialog).getByLabelText("Full name"), "Tam Keel");
    await person().click(within(dialog).getByText("Make the link"));
    expect(await screen.findByText(/\/join#wtl_secret$/)).toBeTruthy();
    expect(calls.find((c) => c.method === "POST")?.body).toEqual({
      name: "tam",
      full_name: "Tam Keel",
      role: "viewer",
    });
    await person().click(screen.getByText("Done"));
    await waitFor(() => expect(screen.queryByText(/wtl_secret/)).toBeNull());
  });
});

describe("sessions", () => {
  const agent =
    "Mozilla/5.0 (X11; Linux x86_64) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/140.0 Safari/537.36";
  const row = (id: number, is_this: boolean) => ({
    id,
    address: `10.0.0.${id}`,
    agent,
    created_at: Date.parse("2026-11-28T09:00:00Z"),
    last_seen_at: Date.parse("2026-11-28T10:00:00Z"),
    is_this,
  });

  it("other than this one are ended, one by one or all", async () => {
    const calls = serve({
      "GET /api/v1/sessions": () => [row(1, true), row(2, false), row(3, false)],
      "DELETE /api/v1/sessions": () => undefined,
      "DELETE /api/v1/sessions/{id}": () => undefined,
    });
    show(<Sessions />);
    await person().click(await screen.findByLabelText("End the session at 10.0.0.2"));
    expect(screen.queryByLabelText("End the session at 10.0.0.1")).toBeNull();
    await person().click(screen.getByText("End the other 2"));
    expect(calls.filter((c) => c.method === "DELETE").map((c) => c.path)).toEqual([
      "/api/v1/sessions/{id}",
      "/api/v1/sessions",
    ]);
  });

  it("are named by browser and system, or by the program", () => {
    expect(browserOf(agent)).toBe("Chrome on Linux");
    expect(browserOf("python-httpx/0.28")).toBe("python-httpx");
    expect(browserOf("")).toBe("a program");
  });
});

describe("settings", () => {
  it("show an analyst their own parts only", async () => {
    serve({
      "GET /api/v1/session": () => ({ name: "ivo", role: "analyst", version: "0.2.0" }),
      "GET /api/v1/sessions": () => [],
      "GET /api/v1/tokens": () => [],
    });
    show(<Settings />);
    expect(await screen.findByText("Your sessions")).toBeTruthy();
    expect(await screen.findByText(/Watch Tide 0.2.0/)).toBeTruthy();
    for (const part of ["People", "Audit trail", "Storage"]) expect(screen.queryByText(part)).toBeNull();
  });

  it("give sizes a unit", () => {
    expect([0, 999, 1000, 9_940_000, 88_000_000, 3.2e12].map(bytes)).toEqual([
      "0\u2009B",
      "999\u2009B",
      "1.0\u2009kB",
      "9.9\u2009MB",
      "88\u2009MB",
      "3.2\u2009TB",
    ]);
  });
});

describe("joining", () => {
  it("names the account, and sends the link in the body", async () => {
    window.location.hash = "#wtl_abc";
    const calls = serve({
      "POST /api/v1/links/look": () => ({
        name: "tam",
        purpose: "invitation",
        ends_at: Date.parse("2027-01-02T10:00:00Z"),
      }),
      "POST /api/v1/links/use": () => {
        throw new Error("too common");
      },
    });
    show(<Join />);
    expect(await screen.findByText("tam")).toBeTruthy();
    await person().type(screen.getByLabelText(/^Password/), "six grey herons");
    await person().click(screen.getByText("Set it and sign in"));
    expect(await screen.findByRole("alert")).toBeTruthy();
    expect(calls.at(-1)?.body).toEqual({ link: "wtl_abc", password: "six grey herons" });
    window.location.hash = "";
  });
});
