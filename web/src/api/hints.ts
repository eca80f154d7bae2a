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
  lookout: [["lookouts"]],
  board: [["boards"]],
  outbox: [["outbox"], ["routes"]],
  calendar: [["calendars"]],
};

/** What somebody wrote into the logbook changes: their own page need not wait for the hint. */
export function logbookChanged(client: QueryClient): void {
  for (const key of [...(STALE.logbook ?? []), ["explain"], ["review"]])
    void client.invalidateQueries({ queryKey: key });
}

/** Whether hints come in; `since` : when they stopped, in ms. */
export type Connection = { isOpen: true } | { isOpen: false; since: number };

const FIRST_WAIT_MS = 1_000;
const MOST_WAIT_MS = 30_000;

/** The events of the server, begun again with growing waits for as long as nobody stops them. */
function follow(onHint: (kind: string, id: number) => void, onState: (isOpen: boolean) => void): () => void {
  let source: EventSource | null = null;
  let timer = 0;
  let wait = FIRST_WAIT_MS;
  const open = () => {
    source = new EventSource("/api/v1/events");
    source.addEventListener("hint", (event) => {
      const { data, lastEventId } = event as MessageEvent<string>;
      onHint(String(JSON.parse(data).kind), Number(lastEventId));
    });
    source.onopen = () => {
      wait = FIRST_WAIT_MS;
      onState(true);
    };
    source.onerror = () => {
      onState(false);
      // The browser tries again by itself, except after an answer that is no stream.
      if (source?.readyState !== EventSource.CLOSED) return;
      timer = window.setTimeout(open, wait);
      wait = Math.min(wait * 2, MOST_WAIT_MS);
    };
  };
  open();
  return () => {
    window.clearTimeout(timer);
    source?.close();
  };
}

/**
 * Listen to the server's hints over one connection shared between the tabs of a browser: the tab that holds the lock
 * listens and passes hints on; when it closes, another takes the lock. Where the browser has neither locks nor channels
 * (plain HTTP from another machine), each tab listens for itself.
 */
export function listenForHints(client: QueryClient, onState: (state: Connection) => void): () => void {
  const channel = "BroadcastChannel" in window ? new BroadcastChannel("watchtide-hints") : null;
  const stop = new AbortController();
  let wasOpen = true;
  const refresh = (kind: string) => {
    for (const key of STALE[kind] ?? []) client.invalidateQueries({ queryKey: key });
  };
  const state = (isOpen: boolean) => {
    if (isOpen && !wasOpen) client.invalidateQueries();
    if (isOpen !== wasOpen) onState(isOpen ? { isOpen } : { isOpen, since: Date.now() });
    wasOpen = isOpen;
  };
  if (channel)
    channel.onmessage = ({ data }) => {
      if (data === "open" || data === "closed") state(data === "open");
      else refresh(String(data));
    };
  const listen = () => {
    let last = 0;
    return follow(
      (kind, id) => {
        // A gap in the numbers: hints were lost, so everything may be stale.
        if (last && id > last + 1) client.invalidateQueries();
        last = id;
        refresh(kind);
        channel?.postMessage(kind);
      },
      (isOpen) => {
        if (isOpen) client.invalidateQueries({ queryKey: ["jobs"] });
        state(isOpen);
        channel?.postMessage(isOpen ? "open" : "closed");
      },
    );
  };
  if (navigator.locks && channel) {
    void navigator.locks
      .request("watchtide-hints", { signal: stop.signal }, () => {
        const end = listen();
        return new Promise<void>((done) => {
          stop.signal.addEventListener("abort", () => {
            end();
            done();
          });
        });
      })
      .catch(() => undefined);
  } else stop.signal.addEventListener("abort", listen());
  return () => {
    stop.abort();
    channel?.close();
  };
}
