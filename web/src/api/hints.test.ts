import { QueryClient } from "@tanstack/react-query";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { type Connection, listenForHints } from "./hints";

class Source {
  static readonly CLOSED = 2;
  static made: Source[] = [];
  readyState = 1;
  onopen = () => undefined;
  onerror = () => undefined;
  listeners: ((event: unknown) => void)[] = [];
  constructor() {
    Source.made.push(this);
  }
  addEventListener(_: string, listener: (event: unknown) => void) {
    this.listeners.push(listener);
  }
  close() {
    this.readyState = Source.CLOSED;
  }
  hint(kind: string, id: number) {
    for (const listener of this.listeners)
      listener({ data: JSON.stringify({ kind }), lastEventId: String(id) });
  }
}

beforeEach(() => {
  Source.made = [];
  vi.useFakeTimers();
  vi.stubGlobal("EventSource", Source);
});
afterEach(() => {
  vi.useRealTimers();
  vi.unstubAllGlobals();
});

describe("hints", () => {
  it("come in without locks and channels, as over plain HTTP from another machine", () => {
    vi.stubGlobal("navigator", { ...navigator, locks: undefined });
    vi.stubGlobal("BroadcastChannel", undefined);
    Reflect.deleteProperty(window, "BroadcastChannel");
    const client = new QueryClient();
    const stale = vi.spyOn(client, "invalidateQueries");
    const stop = listenForHints(client, () => undefined);
    Source.made[0]?.hint("feed", 1);
    expect(stale).toHaveBeenCalledWith({ queryKey: ["feeds"] });
    stop();
    expect(Source.made[0]?.readyState).toBe(Source.CLOSED);
  });
  it("are begun again after an answer that ends them, and the page knows meanwhile", () => {
    vi.stubGlobal("navigator", { ...navigator, locks: undefined });
    const client = new QueryClient();
    const stale = vi.spyOn(client, "invalidateQueries");
    const states: Connection[] = [];
    const stop = listenForHints(client, (state) => states.push(state));
    const [first] = Source.made;
    first?.close();
    first?.onerror();
    expect(states.at(-1)?.isOpen).toBe(false);
    vi.advanceTimersByTime(999);
    expect(Source.made).toHaveLength(1);
    vi.advanceTimersByTime(1);
    Source.made[1]?.onerror();
    Source.made[1]?.onopen();
    expect(states.at(-1)?.isOpen).toBe(true);
    expect(stale).toHaveBeenCalledWith();
    stop();
  });
});
