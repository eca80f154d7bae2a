import { Box } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, list } from "../../api/client";
import { plural, ratio } from "../../parts/words";
import { monthWords } from "./Months";

const W = 560;
const H = 170;
const L = 34;
const DASHES = [undefined, "6 4", "2 3", "9 3 2 3", "1 4", "12 5"];
const SHOWN = 6;

/** Precision by month, a line for each of the latest versions of a plan. */
export function Trend({ plan, name }: { plan: number; name: string }) {
  const told = useQuery({
    queryKey: ["scorecard", "trend", plan],
    queryFn: () => list(api.GET("/api/v1/plans/{id}/trend", { params: { path: { id: plan } } })),
  });
  const versions = (told.data ?? []).slice(-SHOWN);
  const months = [
    ...new Set(versions.flatMap((v) => v.months.filter((m) => m.precision !== null).map((m) => m.name))),
  ].sort();
  if (!versions.length || !months.length) return null;
  const x = (i: number) => L + 20 + (i * (W - L - 130)) / Math.max(1, months.length - 1);
  const y = (v: number) => 10 + (1 - v) * (H - 40);
  return (
    <Box aria-label="Precision over time" component="section" mt="1.6rem">
      <h2>
        {name} <span className="soft small">precision by month, a line for each version</span>
      </h2>
      <svg
        viewBox={`0 0 ${W} ${H}`}
        style={{ width: "100%", maxWidth: W }}
        role="img"
        aria-label={`Precision of ${name} by month for ${versions.length} versions`}
      >
        <g fontSize="11.5" fill="var(--ink-soft)" fontFamily="var(--mono)">
          {[0, 0.5, 1].map((g) => (
            <g key={g}>
              <path d={`M${L} ${y(g)}H${W - 90}`} stroke="var(--hair)" />
              <text x={L - 5} y={y(g) + 4} textAnchor="end">
                {g}
              </text>
            </g>
          ))}
          {months.map((m, i) => (
            <text key={m} x={x(i)} y={H - 8} textAnchor="middle">
              {monthWords(m)}
            </text>
          ))}
        </g>
        {versions.map((v, k) => {
          const points = months.flatMap((m, i) => {
            const own = v.months.find((c) => c.name === m);
            return own?.precision == null
              ? []
              : [{ i, p: own.precision, n: own.tp_findings + own.fp_findings }];
          });
          const end = points.at(-1);
          return (
            <g key={v.version} stroke="var(--ink)" fill="none" strokeWidth="1.6">
              <path
                d={points.map((q, i) => `${i ? "L" : "M"}${x(q.i)} ${y(q.p)}`).join("")}
                strokeDasharray={DASHES[versions.length - 1 - k]}
              />
              {points.map((q) => (
                <circle key={q.i} cx={x(q.i)} cy={y(q.p)} r="3" fill="var(--ink)" stroke="none">
                  <title>{`v${v.version}, ${ratio(q.p)} of ${q.n} findings`}</title>
                </circle>
              ))}
              {end && (
                <text
                  x={x(end.i) + 8}
                  y={y(end.p) + 4 + (versions.length - 1 - k) * 13}
                  fontSize="12.5"
                  fill="var(--ink)"
                  stroke="none"
                >
                  v{v.version}
                </text>
              )}
            </g>
          );
        })}
      </svg>
      <p className="small">
        {versions.map((v) => (
          <Box key={v.version} component="span" mr={16}>
            <Link to={`/scorecards/${v.scan}`}>v{v.version}</Link> on {plural(v.streams, "stream")}: precision{" "}
            {ratio(v.precision)}, recall {ratio(v.recall)}
          </Box>
        ))}
      </p>
    </Box>
  );
}
