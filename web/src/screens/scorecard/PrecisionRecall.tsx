import { useState } from "react";
import type { Curve } from "../../api/client";
import { ratio } from "../../parts/words";
import type { Events } from "./figures";
import { wider } from "./figures";

const W = 430;
const H = 338;
const L = 40;
const T = 22;
const SIDE = 280;
const x = (recall: number) => L + recall * (W - L - 16);
const y = (precision: number) => T + (1 - precision) * SIDE;

/** A constraint as the chart shows it: where it holds, and the best level under it. */
export interface Marked {
  level: number;
  isMet: boolean;
  feasible: number[];
  minRecall?: number;
}

interface Point {
  level: number;
  p: number;
  r: number;
}

function pointsOf(curve: Curve): Point[] {
  return curve.levels
    .map((level, i) => ({ level: level ?? 0, p: curve.precision[i] ?? null, r: curve.recall[i] ?? null }))
    .filter((q): q is Point => q.p !== null && q.r !== null);
}

const pathOf = (points: Point[]) =>
  points.map((q, i) => `${i ? "L" : "M"}${x(q.r).toFixed(1)} ${y(q.p).toFixed(1)}`).join("");

/** The intervals across and upright, with caps: the curve may run along either of them. */
function whiskersOf(r: number | null, p: number | null, across?: number[] | null, upright?: number[] | null) {
  const [left, right] = across ?? [];
  const [low, high] = upright ?? [];
  let path = "";
  if (r !== null && low !== undefined && high !== undefined)
    path += `M${x(r)} ${y(low)}V${y(high)}M${x(r) - 5} ${y(low)}h10M${x(r) - 5} ${y(high)}h10`;
  if (p !== null && left !== undefined && right !== undefined)
    path += `M${x(left)} ${y(p)}H${x(right)}M${x(left)} ${y(p) - 5}v10M${x(right)} ${y(p) - 5}v10`;
  return path;
}

/** Precision over recall at every level, the levels in force as a point of its own with its intervals. */
export function PrecisionRecall({
  curve,
  events,
  replay,
  marked,
}: {
  curve: Curve;
  events: Events;
  replay?: Curve;
  marked?: Marked | null;
}) {
  const [at, setAt] = useState<number | null>(null);
  const points = pointsOf(curve);
  const replayed = replay ? pointsOf(replay) : [];
  const pCi = wider(events.precision_ci, events.precision_ci_clustered);
  const rCi = wider(events.recall_ci, events.recall_ci_clustered);
  const chosen = at === null ? null : points[at];
  const near = (event: React.PointerEvent<SVGSVGElement>) => {
    const box = event.currentTarget.getBoundingClientRect();
    const px = ((event.clientX - box.left) / box.width) * W;
    const py = ((event.clientY - box.top) / box.height) * H;
    let best = 0;
    points.forEach((q, i) => {
      const b = points[best];
      if (b && (x(q.r) - px) ** 2 + (y(q.p) - py) ** 2 < (x(b.r) - px) ** 2 + (y(b.p) - py) ** 2) best = i;
    });
    setAt(best);
  };
  const grid = [0, 0.25, 0.5, 0.75, 1];
  const best = marked?.isMet ? points.find((q) => Math.abs(q.level - marked.level) < 1e-6) : undefined;
  const feasible = new Set(marked?.feasible.map((v) => v.toFixed(2)));
  const within = points.filter((q) => feasible.has(q.level.toFixed(2)));
  const last = replayed[0];
  const whiskers = whiskersOf(events.recall, events.precision, rCi, pCi);
  return (
    <figure className="tight">
      <svg
        viewBox={`0 0 ${W} ${H}`}
        width="100%"
        onPointerMove={near}
        onPointerLeave={() => setAt(null)}
        role="img"
        aria-label={`Precision over recall at ${points.length} levels; in force ${ratio(events.precision)} and ${ratio(events.recall)}${best ? `; best under the constraint ${best.level.toFixed(2)} sigmas` : ""}`}
      >
        {marked?.minRecall !== undefined && (
          <g>
            <rect
              x={x(marked.minRecall)}
              y={y(1)}
              width={x(1) - x(marked.minRecall)}
              height={SIDE}
              fill="var(--band)"
            />
            <text x={x(1) - 4} y={y(0) - 6} fontSize="12.5" textAnchor="end" fill="var(--ink-soft)">
              recall ≥ {marked.minRecall.toFixed(2)}
            </text>
          </g>
        )}
        {grid.map((g) => (
          <g key={g} fontSize="12" fill="var(--ink-soft)" fontFamily="var(--mono)">
            <path d={`M${x(0)} ${y(g)}H${x(1)}M${x(g)} ${y(0)}V${y(1)}`} stroke="var(--hair)" />
            <text x={L - 6} y={y(g) + 4} textAnchor="end">
              {g}
            </text>
            <text x={x(g)} y={y(0) + 17} textAnchor="middle">
              {g}
            </text>
          </g>
        ))}
        <text x={x(0.5)} y={H - 2} fontSize="12.5" textAnchor="middle" fill="var(--ink-soft)">
          recall
        </text>
        <text x={2} y={10} fontSize="12.5" fill="var(--ink-soft)">
          precision
        </text>
        {marked && (
          <path d={pathOf(within)} fill="none" stroke="var(--shift)" strokeWidth="6" opacity="0.35" />
        )}
        {last && (
          <g>
            <path
              d={pathOf(replayed)}
              fill="none"
              stroke="var(--ink)"
              strokeWidth="1.4"
              strokeDasharray="5 4"
            />
            <text x={x(0) + 8} y={y(0) - 24} fontSize="12.5" fill="var(--ink-soft)">
              solid: in-sample; broken: replay
            </text>
          </g>
        )}
        <path d={pathOf(points)} fill="none" stroke="var(--ink)" strokeWidth="1.8" />
        {events.precision !== null && events.recall !== null && (
          <g stroke="var(--ink)" strokeWidth="1.6">
            <path d={whiskers} stroke="var(--paper)" strokeWidth="4.5" fill="none" />
            <path d={whiskers} fill="none" />
            <rect
              x={x(events.recall) - 4.5}
              y={y(events.precision) - 4.5}
              width="9"
              height="9"
              fill="var(--ink)"
            />
          </g>
        )}
        {best && (
          <g>
            <circle
              cx={x(best.r)}
              cy={y(best.p)}
              r="6.5"
              fill="var(--paper)"
              stroke="var(--shift)"
              strokeWidth="2.4"
            />
            <text
              x={Math.max(L + 128, x(best.r) - 12)}
              y={y(best.p) > T + 24 ? y(best.p) - 12 : y(best.p) + 22}
              fontSize="13"
              fill="var(--shift)"
              fontWeight="700"
              textAnchor="end"
            >
              best: {best.level.toFixed(2)} σ
            </text>
          </g>
        )}
        {chosen && (
          <g>
            <circle cx={x(chosen.r)} cy={y(chosen.p)} r="5" fill="none" stroke="var(--ink)" strokeWidth="2" />
            <text
              x={Math.min(x(chosen.r), W - 130)}
              y={Math.max(24, y(chosen.p) - 12)}
              fontSize="13"
              fill="var(--ink)"
              fontWeight="700"
            >
              {chosen.level.toFixed(2)} σ: {ratio(chosen.p)} / {ratio(chosen.r)}
            </text>
          </g>
        )}
      </svg>
      <figcaption className="soft small">
        Line: one level for all streams, 2 to 12 σ. Square: the plan's own levels, with 95 % intervals.
      </figcaption>
    </figure>
  );
}
