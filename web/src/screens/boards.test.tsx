import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Route, Routes } from "react-router";
import { expect, it } from "vitest";
import { show } from "../test/helper";
import { serve } from "../test/serve";
import { AddToBoard } from "./boards/AddToBoard";
import Board from "./boards/Board";
import { below, type Pane, settled, shifted } from "./boards/words";

const pane = (more: Partial<Pane> = {}): Pane => ({
  kind: "text",
  title: "",
  x: 0,
  y: 0,
  w: 6,
  h: 4,
  text: "a",
  ...more,
});
const board = { id: 3, name: "wall", version: 1, created_by: "ann", created_at: 0 };

it("lays panes so that none covers another, and the moved one stays", () => {
  const [a, b, c] = settled([pane(), pane({ y: 2 }), pane({ x: 6, y: 1 })], 0);
  expect([a?.y, b?.y, c?.y]).toEqual([0, 4, 1]);
  expect(settled([pane(), pane({ x: 3, y: 1 })], 1).map((p) => p.y)).toEqual([5, 1]);
});

it("moves a pane within the grid only", () => {
  expect(shifted(pane(), { x: 9, y: -2 })).toMatchObject({ x: 6, y: 0 });
  expect(shifted(pane({ x: 2 }), { w: 20 })).toMatchObject({ x: 0, w: 12 });
  expect(shifted(pane(), { w: -9, h: -9 })).toMatchObject({ w: 2, h: 2 });
  expect(below([pane(), pane({ y: 4, h: 3 })])).toBe(7);
});

it("is arranged by keys, and a new pane goes below", async () => {
  const calls = serve({
    "GET /api/v1/boards/{id}": () => ({ ...board, panes: [pane({ title: "call" })] }),
    "GET /api/v1/boards": () => [{ ...board, panes: [] }],
    "GET /api/v1/tide": () => ({ families: [{ metric: "taps" }] }),
    "GET /api/v1/tide/rows": () => ({ rows: [{ id: 7, metric: "taps", title: "Northquay" }], total: 1 }),
    "GET /api/v1/boards/{id}/panes/{place}": () => ({ kind: "text", at: Date.now(), text: "Maud, 555" }),
    "PATCH /api/v1/boards/{id}": ({ body }) => ({ ...board, version: 2, ...(body as object) }),
  });
  show(
    <Routes>
      <Route path="/" element={<Board />} />
    </Routes>,
  );
  expect(await screen.findByText("Maud, 555")).toBeTruthy();
  await userEvent.click(screen.getByRole("button", { name: "Arrange" }));
  const handle = await screen.findByRole("button", { name: /Move call/ });
  handle.focus();
  await userEvent.keyboard("{ArrowRight}");
  const sent = () =>
    calls.filter((c) => c.method === "PATCH").map((c) => (c.body as { panes: Pane[] }).panes);
  await waitFor(() => expect(sent().at(-1)?.[0]?.x).toBe(1));
  await userEvent.keyboard("{Shift>}{ArrowDown}{/Shift}");
  await waitFor(() => expect(sent().at(-1)?.[0]?.h).toBe(5));
  await userEvent.click(screen.getByRole("combobox", { name: "Stream" }));
  await userEvent.click(await screen.findByRole("option", { name: "taps · Northquay" }));
  await userEvent.click(screen.getByRole("button", { name: "Put it on the board" }));
  await waitFor(() =>
    expect(sent().at(-1)?.[1]).toMatchObject({ kind: "stream", stream: 7, y: 5, hours: 48 }),
  );
});

it("takes a pane from elsewhere", async () => {
  const calls = serve({
    "GET /api/v1/boards": () => [{ ...board, panes: [] }],
    "GET /api/v1/boards/{id}": () => ({ ...board, panes: [pane()] }),
    "PATCH /api/v1/boards/{id}": () => board,
  });
  show(<AddToBoard pane={{ kind: "stream", stream: 7, hours: 24 }} />);
  await userEvent.selectOptions(await screen.findByLabelText("Add to a board"), "wall");
  expect(await screen.findByText("wall", { selector: "a" })).toBeTruthy();
  expect(calls.find((c) => c.method === "PATCH")?.body).toMatchObject({
    version: 1,
    panes: [{}, { kind: "stream", stream: 7, y: 4 }],
  });
});
