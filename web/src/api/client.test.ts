import { QueryClient } from "@tanstack/react-query";
import { afterEach, describe, expect, it, vi } from "vitest";
import { api, csrfToken, list, Problem, problemOf, rememberCsrfCookie, sendFile } from "./client";

const answer = (status: number, body: unknown) =>
  new Response(JSON.stringify(body), { status, headers: { "Content-Type": "application/json" } });

afterEach(() => vi.unstubAllGlobals());

describe("errors of the server", () => {
  it("become problems with place and remedy", async () => {
    const problem = await problemOf(
      answer(422, { title: "must be above 0", place: "flag.level", remedy: "take 4", problems: [] }),
    );
    expect(problem).toBeInstanceOf(Problem);
    expect([problem.status, problem.place, problem.message]).toEqual([
      422,
      "flag.level",
      "must be above 0; take 4",
    ]);
  });
  it("are in words even when the answer is no document", async () => {
    const problem = await problemOf(new Response("<html>", { status: 502 }));
    expect(problem.title).toContain("502");
    expect(problem.remedy).toBeTruthy();
  });
  it("tell the page when the session is over", async () => {
    const out = vi.fn();
    window.addEventListener("watchtide:signed-out", out);
    const refuse = async () => answer(401, { title: "sign in first" });
    await expect(list(api.GET("/api/v1/jobs", { baseUrl: "http://x", fetch: refuse }))).rejects.toThrow(
      "sign in first",
    );
    expect(out).toHaveBeenCalledOnce();
  });
});

describe("writing", () => {
  it("sends the token of the cookie the server named", async () => {
    // biome-ignore lint/suspicious/noDocumentCookie: the cookie is what is tested
    document.cookie = "watchtide_csrf_8410=abc%3D";
    rememberCsrfCookie("watchtide_csrf_8410");
    expect(csrfToken()).toBe("abc=");
    const sent: Request[] = [];
    const fetch = async (request: Request) => {
      sent.push(request);
      return answer(200, {});
    };
    await api.POST("/api/v1/tide/looked", { baseUrl: "http://x", fetch });
    await api.GET("/api/v1/tide", { baseUrl: "http://x", fetch });
    expect(sent.map((r) => r.headers.get("X-CSRFToken"))).toEqual(["abc=", null]);
  });
  it("hands a file in as a form and passes on why it was refused", async () => {
    const fetched = vi.fn(async () =>
      answer(413, { title: "the file is larger than 256 MB", remedy: "split it" }),
    );
    vi.stubGlobal("fetch", fetched);
    await expect(sendFile("/api/v1/uploads", new File(["a"], "a.csv"))).rejects.toThrow("split it");
    const [url, options] = fetched.mock.calls[0] as unknown as [string, RequestInit];
    expect(url).toBe("/api/v1/uploads");
    expect((options.body as FormData).get("file")).toBeInstanceOf(File);
  });
});

describe("hints", () => {
  it("make stale what they point at, and everything after a gap", async () => {
    const listeners: Record<string, (event: unknown) => void> = {};
    class Source {
      onopen: (() => void) | null = null;
      addEventListener(name: string, act: (event: unknown) => void) {
        listeners[name] = act;
      }
      close() {}
    }
    const posted: unknown[] = [];
    class Channel {
      onmessage: ((event: unknown) => void) | null = null;
      postMessage(message: unknown) {
        posted.push(message);
      }
      close() {}
    }
    vi.stubGlobal("EventSource", Source);
    vi.stubGlobal("BroadcastChannel", Channel);
    Object.defineProperty(navigator, "locks", {
      configurable: true,
      value: { request: (_: string, __: object, work: () => Promise<void>) => work() },
    });
    const { listenForHints } = await import("./hints");
    const client = new QueryClient();
    const stale = vi.spyOn(client, "invalidateQueries").mockResolvedValue();
    const stop = listenForHints(client, () => undefined);
    const hint = (id: number, kind: string) =>
      listeners.hint?.({ lastEventId: String(id), data: JSON.stringify({ kind }) });
    hint(5, "logbook");
    expect(stale.mock.calls.map(([q]) => q?.queryKey?.[0])).toEqual([
      "logbook",
      "window",
      "curve",
      "scorecard",
      "tide",
      "incidents",
    ]);
    expect(posted).toEqual(["logbook"]);
    stale.mockClear();
    hint(9, "batch");
    expect(stale.mock.calls[0]).toEqual([]);
    stop();
  });
});

describe("what is polled", () => {
  it("comes once while it does not change", async () => {
    const sent: (string | null)[] = [];
    let etag = '"a"';
    const fetch = async (request: Request) => {
      const stated = request.headers.get("If-None-Match");
      sent.push(stated);
      if (stated === etag) return new Response(null, { status: 304, headers: { ETag: etag } });
      const body = JSON.stringify({ items: [{ id: etag }], next: null });
      return new Response(body, { headers: { "Content-Type": "application/json", ETag: etag } });
    };
    const ask = () => list(api.GET("/api/v1/jobs", { baseUrl: "http://y", fetch }));
    expect(await ask()).toEqual([{ id: '"a"' }]);
    expect(await ask()).toEqual([{ id: '"a"' }]);
    expect(await ask()).toEqual([{ id: '"a"' }]);
    etag = '"b"';
    expect(await ask()).toEqual([{ id: '"b"' }]);
    expect(sent).toEqual([null, '"a"', '"a"', '"a"']);
  });
});
