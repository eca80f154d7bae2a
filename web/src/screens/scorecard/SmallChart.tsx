import { useQuery } from "@tanstack/react-query";
import { api, get } from "../../api/client";
import { edgeAt } from "../../charts/band";

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
  const band = d.time.map((_, i) => {
    const low = edgeAt(d, i, -1, d.level_below ?? 4);
    const high = edgeAt(d, i, 1, d.level_above ?? 4);
    return low === null || high === null ? null : [low, high];
  });
  const seen = [...d.value.filter((v): v is number => v !== null), ...band.flatMap((v) => v ?? [])];
  const low = Math.min(...seen);
  const high = Math.max(...seen);
  const x = (t: number) => ((t - a) / (b - a)) * W;
  const y = (v: number) => H - 3 - ((v - low) / (high - low || 1)) * (H - 6);
  let path = "";
  d.value.forEach((v, i) => {
    if (v !== null)
      path += `${path && d.value[i - 1] !== null ? "L" : "M"}${x(d.time[i] ?? 0).toFixed(1)} ${y(v).toFixed(1)}`;
  });
  const edges = [1, 0].map((k) =>
    band
      .map((v, i) => (v ? `${x(d.time[i] ?? 0).toFixed(1)},${y(v[k] ?? 0).toFixed(1)}` : ""))
      .filter(Boolean),
  );
  return (
    <svg viewBox={`0 0 ${W} ${H}`} width="100%" role="img" aria-label="the span in its surroundings">
      <rect x={x(from)} y="0" width={Math.max(2, x(to) - x(from))} height={H} fill="var(--band)" />
      <polygon points={[...(edges[0] ?? []), ...(edges[1] ?? []).reverse()].join(" ")} fill="var(--band)" />
      <path d={path} fill="none" stroke="var(--ink)" strokeWidth="1.1" />
    </svg>
  );
}
