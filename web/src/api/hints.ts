import type { QueryClient } from "@tanstack/react-query";

// What each hint makes stale. Hints are never data: the page fetches what they point at.
const STALE: Record<string, string[][]> = {
  job: [["jobs"], ["scans"], ["scan"]],
  scan: [["tide"], ["scans"], ["scan"], ["stream"], ["review"], ["scorecard"], ["incidents"]],
  logbook: [["logbook"], ["window"], ["curve"], ["scorecard"], ["tide"], ["incidents"]],
  scorecard: [["scorecard"]],
  published: [["published"]],
  review: [["rounds"], ["review"]],
  incident: [["incidents"], ["tide"]],
  batch: [["batches"], ["doors"], ["tide"]],
  stream: [["tide"], ["stream"], ["catalogue"]],
  catalogue: [["catalogue"], ["tide"]],
  push: [["doors"], ["catalogue"]],
  feed: [["feeds"]],
  calendar: [["calendars"]],
};

/**
 * Listen to the server's hints over one connection shared between the tabs of a browser: the tab that
 * holds the lock listens and passes hints on; when it closes, another takes the lock.
 */
export function listenForHints(client: QueryClient): () => void {
  const channel = new BroadcastChannel("watchtide-hints");
  const stop = new AbortController();
  const refresh = (kind: string) => {
    for (const key of STALE[kind] ?? []) client.invalidateQueries({ queryKey: key });
  };
  channel.onmessage = (message) => refresh(String(message.data));
  void navigator.locks
    .request("watchtide-hints", { signal: stop.signal }, () => {
      const source = new EventSource("/api/v1/events");
      let last = 0;
      source.addEventListener("hint", (event) => {
        const id = Number((event as MessageEvent).lastEventId);
        const kind = String(JSON.parse((event as MessageEvent<string>).data).kind);
        // A gap in the numbers: hints were lost, so everything may be stale.
        if (last && id > last + 1) client.invalidateQueries();
        last = id;
        refresh(kind);
        channel.postMessage(kind);
      });
      source.onopen = () => client.invalidateQueries({ queryKey: ["jobs"] });
      return new Promise<void>((done) => {
        stop.signal.addEventListener("abort", () => {
          source.close();
          done();
        });
      });
    })
    .catch(() => undefined);
  return () => {
    stop.abort();
    channel.close();
  };
}
