import { useQueries, useQuery } from "@tanstack/react-query";
import { api, list, type Scan } from "../../api/client";
import { LETTERS } from "./Lanes";
import { curveQuery, windowQuery } from "./useView";

const LANE_POINTS = 100;

/** The scans of a stream that stand beside the one on show: the newest replay of its plan, and those pinned. */
export function useBeside(
  id: number,
  scanId: number | null,
  own: Scan | undefined,
  pins: number[],
  isDrawn: boolean,
) {
  const scans = useQuery({
    queryKey: ["scans", id],
    enabled: isDrawn,
    queryFn: () => list(api.GET("/api/v1/scans", { params: { query: { stream: id } } })),
  });
  const finished = (scans.data ?? []).filter((s) => s.state === "done");
  // What the plan on show would have said.
  const replay = finished.find(
    (s) => s.mode === "replay" && own?.mode === "fit" && s.plan === own.plan && s.version === own.version,
  );
  const pinned = pins.flatMap((pin) => finished.filter((s) => s.id === pin && s.id !== scanId));
  const named = [
    ...(replay ? [{ name: "replay", scan: replay }] : []),
    ...pinned.map((s, i) => ({ name: LETTERS[i + 1] ?? "", scan: s })),
  ];
  const windows = useQueries({
    queries: named.map((b) => windowQuery(b.scan.id, id, null, LANE_POINTS)),
  });
  const replayed = useQuery(curveQuery(replay?.id ?? null, id));
  const lanes = named.map((b, i) => ({ ...b, window: windows[i]?.data }));
  return { finished, replay, pinned, lanes, replayed };
}
