import { describe, expect, it, vi } from "vitest";
import { serve } from "../test/serve";
import { counted, ended, worked } from "./jobs";

describe("waiting for a job", () => {
  it("goes on until it is over and gives what it made", async () => {
    vi.useFakeTimers();
    const states = ["queued", "running", "done"];
    serve({ "GET /api/v1/jobs/{id}": () => ({ id: 4, state: states.shift(), result: { round: 7 } }) });
    const waiting = ended(4);
    await vi.runAllTimersAsync();
    expect((await waiting).result).toEqual({ round: 7 });
    expect(states).toEqual([]);
    vi.useRealTimers();
  });

  it("says why one failed or was cancelled", async () => {
    serve({
      "GET /api/v1/jobs/{id}": () => ({ id: 4, state: "failed", message: "nothing is left to be judged" }),
    });
    await expect(ended(4)).rejects.toThrow("nothing is left to be judged");
  });

  it("cancels the job that nobody waits for any more", async () => {
    const calls = serve({
      "GET /api/v1/jobs/{id}": () => ({ id: 4, state: "running" }),
      "DELETE /api/v1/jobs/{id}": () => ({}),
    });
    const gone = new AbortController();
    const ask = async () => ({ job: 4 });
    const waiting = worked(ask, (answer) => answer.job, gone.signal);
    gone.abort();
    await expect(waiting).rejects.toThrow(/abort/);
    expect(calls.map((call) => call.method)).toContain("DELETE");
  });

  it("requests again what was counted", async () => {
    serve({ "GET /api/v1/jobs/{id}": () => ({ id: 4, state: "done" }) });
    const answers = [{ counting_job: 4 }, { streams: 3 }];
    expect(await counted<{ streams: number }>(async () => answers.shift() as never)).toEqual({ streams: 3 });
  });
});
