import { useQuery } from "@tanstack/react-query";
import { api, get } from "../../api/client";
import { edgeAt } from "../../charts/band";
import { pathOf, washOf } from "../../charts/path";

const W = 176;
const H = 62;

/** A span with its surroundings: values, band, and the span itself marked. */
export function SmallChart({
  scan,
  stream,
  from,
  to,
}: {
  scan: number;
  stream: number;
  from: number;
  to: number;
}) {
  const margin = Math.max(12 * 3_600_000, 0.7 * (to - from));
  const a = Math.round(from - margin);
  const b = Math.round(to + margin);
  const view = useQuery({
    queryKey: ["window", scan, stream, a, b, 300, false],
    queryFn: () =>
      get(
        api.GET("/api/v1/scans/{id}/streams/{stream}/window", {
          params: { path: { id: scan, stream }, query: { from: a, to: b, points: 300 } },
        }),
      ),
  });
  const d = view.data;
  if (!d) return <svg viewBox={`0 0 ${W} ${H}`} width="100%" aria-hidden="true" />;
  const lower = d.time.map((_, i) => edgeAt(d, i, -1, d.level_below ?? 4));
  const upper = d.time.map((_, i) => edgeAt(d, i, 1, d.level_above ?? 4));
  const seen = [...d.value, ...lower, ...upper].filter((v): v is number => v !== null);
  const low = Math.min(...seen);
  const high = Math.max(...seen);
  const x = (t: number) => ((t - a) / (b - a)) * W;
  const y = (v: number) => H - 3 - ((v - low) / (high - low || 1)) * (H - 6);
  const at = (i: number) => x(d.time[i] ?? 0);
  return (
    <svg viewBox={`0 0 ${W} ${H}`} width="100%" role="img" aria-label="the span in its surroundings">
      <rect x={x(from)} y="0" width={Math.max(2, x(to) - x(from))} height={H} fill="var(--band)" />
      <path d={washOf(lower, upper, at, y)} fill="var(--band)" />
      <path d={pathOf(d.value, at, y)} fill="none" stroke="var(--ink)" strokeWidth="1.1" />
    </svg>
  );
}
