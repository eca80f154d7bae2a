import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { fireEvent, render, screen } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { serve } from "../../test/serve";
import { firstRange, useAhead } from "./ahead";
import { aroundOf, POINTS, windowQuery } from "./useView";

const stream = { id: 7, first: 0, last: 100 * 86_400_000, step_s: 900, standing_scan: 3 };

function Name() {
  return <a {...useAhead(7)}>Northquay</a>;
}

describe("a stream that may be opened", () => {
  beforeEach(() => void vi.useFakeTimers());
  afterEach(() => void vi.useRealTimers());

  const shown = () => {
    const calls = serve({
      "GET /api/v1/streams/{id}": () => stream,
      "GET /api/v1/scans/{id}/streams/{stream}/window": () => ({ total: 5 }),
    });
    const client = new QueryClient({ defaultOptions: { queries: { staleTime: 15_000 } } });
    render(
      <QueryClientProvider client={client}>
        <Name />
      </QueryClientProvider>,
    );
    return { calls, client, name: screen.getByText("Northquay") };
  };

  it("has its chart, as the workbench asks for it, once a pointer has rested on it", async () => {
    const { calls, client, name } = shown();
    fireEvent.pointerEnter(name, { pointerType: "mouse" });
    await vi.advanceTimersByTimeAsync(150);
    expect(calls.map((c) => c.path)).toHaveLength(2);
    const { queryKey } = windowQuery(3, 7, aroundOf(firstRange(stream as never)), POINTS);
    await vi.waitFor(() => expect(client.getQueryData(queryKey)).toEqual({ total: 5 }));
  });

  it("is fetched with the click or key that opens it, before its page stands", async () => {
    const { calls, name } = shown();
    fireEvent.click(name);
    await vi.waitFor(() => expect(calls).toHaveLength(2));
  });

  it("is not fetched by a pointer that goes by, nor by a finger", async () => {
    const { calls, name } = shown();
    fireEvent.pointerEnter(name, { pointerType: "mouse" });
    fireEvent.pointerLeave(name, { pointerType: "mouse" });
    fireEvent.pointerEnter(name, { pointerType: "touch" });
    await vi.advanceTimersByTimeAsync(500);
    expect(calls).toHaveLength(0);
  });
});
