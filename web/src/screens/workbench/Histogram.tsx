import type { ChartWindow } from "../../api/client";
import { SCORE_HEIGHT, yOf } from "./LevelLine";
import { GUTTER } from "./types";

/** The scores turned sideways on the same axis, unlabelled beside incident; bar lengths by the log of the count. */
export function Histogram({ counts, top }: { counts?: ChartWindow["histogram"]; top: number }) {
  if (!counts) return <span />;
  const most = Math.log1p(Math.max(...(counts.unlabelled ?? [1]), 1));
  const bars = (name: string) =>
    (counts[name] ?? []).map((n, i) => {
      const a = yOf(Math.min(i / 2, top), top);
      const b = yOf(Math.min((i + 1) / 2, top), top);
      const width = (46 * Math.log1p(n)) / most;
      return n > 0 && a - b > 0.5 ? { key: `${name}${i}`, y: b, height: a - b - 1, width, n } : null;
    });
  return (
    <svg
      width={GUTTER}
      height={SCORE_HEIGHT}
      role="img"
      aria-label="How many samples have which score, unlabelled and inside incidents; bars by the logarithm of the count"
    >
      <text x="4" y="9" fontSize="10.5" fill="var(--ink-soft)">
        unlabelled
      </text>
      <text x={GUTTER - 2} y="9" fontSize="10.5" fill="var(--above)" textAnchor="end">
        incident
      </text>
      <text x={GUTTER / 2} y={SCORE_HEIGHT - 1} fontSize="10.5" fill="var(--ink-soft)" textAnchor="middle">
        counts, log scale
      </text>
      {bars("unlabelled").map(
        (b) =>
          b && (
            <rect
              key={b.key}
              x="4"
              y={b.y}
              width={b.width}
              height={b.height}
              fill="var(--line)"
              opacity="0.65"
            />
          ),
      )}
      {bars("incident").map(
        (b) =>
          b && (
            <rect
              key={b.key}
              x="58"
              y={b.y}
              width={b.width}
              height={b.height}
              fill="none"
              stroke="var(--above)"
            />
          ),
      )}
    </svg>
  );
}
