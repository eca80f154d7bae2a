import type { ChartWindow } from "../../api/client";
import { SCORE_HEIGHT, yOf } from "./LevelLine";
import { GUTTER } from "./types";

const COLUMNS = [
  { name: "unlabelled", x: 4, fill: "var(--line)", opacity: 0.65 },
  { name: "incident", x: 58, fill: "none", stroke: "var(--above)" },
];

/** The scores turned sideways on the same axis, unlabelled beside incident; bar lengths by the log of the count. */
export function Histogram({ counts, top }: { counts?: ChartWindow["histogram"]; top: number }) {
  if (!counts) return <span />;
  const most = Math.log1p(Math.max(...(counts.unlabelled ?? [1]), 1));
  const bars = (name: string) =>
    (counts[name] ?? []).map((n, i) => {
      const a = yOf(Math.min(i / 2, top), top);
      const b = yOf(Math.min((i + 1) / 2, top), top);
      if (n === 0 || a - b <= 0.5) return null;
      return { key: `${name}${i}`, y: b, height: a - b - 1, width: (46 * Math.log1p(n)) / most };
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
      {COLUMNS.flatMap(({ name, x, ...look }) =>
        bars(name).map((bar) => bar && <rect x={x} {...bar} {...look} />),
      )}
    </svg>
  );
}
