import { Box } from "@mantine/core";
import { useState } from "react";
import type { ChartWindow } from "../../api/client";
import { GUTTER } from "../../charts/paneOptions";
import { WordSelect } from "../../parts/WordSelect";
import { SCORE_HEIGHT, yOf } from "./LevelLine";

const HALVES = {
  labels: ["unlabelled", "incident"],
  split: ["training", "after"],
} as const;
const CHOICES = [
  ["labels", "unlabelled | incident"],
  ["split", "training | after"],
] as const;
const LOOKS = [
  { x: 4, fill: "var(--line)", opacity: 0.65 },
  { x: 58, fill: "none", stroke: "var(--above)" },
];
const LONGEST = 46;

/** The scores turned sideways on the same axis, two kinds of sample beside one another; bars by the log of the count. */
export function Histogram({ counts, top }: { counts?: ChartWindow["histogram"]; top: number }) {
  const [by, setBy] = useState<keyof typeof HALVES>("labels");
  if (!counts) return <span />;
  const names = HALVES[by];
  const most = Math.log1p(Math.max(...names.flatMap((name) => counts[name] ?? []), 1));
  const bars = (name: string) =>
    (counts[name] ?? []).map((n, i) => {
      const a = yOf(Math.min(i / 2, top), top);
      const b = yOf(Math.min((i + 1) / 2, top), top);
      if (n === 0 || a - b <= 0.5) return null;
      return { key: `${name}${i}`, y: b, height: a - b - 1, width: (LONGEST * Math.log1p(n)) / most };
    });
  return (
    <Box pos="relative" className="histogram">
      <Box pos="absolute" right={0} top={-16} fz={11} className="front">
        <WordSelect
          label="What the histogram sets side by side"
          value={by}
          choices={CHOICES}
          onChange={setBy}
        />
      </Box>
      <svg
        width={GUTTER}
        height={SCORE_HEIGHT}
        role="img"
        aria-label={`How many samples have which score, ${names.join(" beside ")}; bars by the logarithm of the count`}
      >
        <text x={GUTTER / 2} y={SCORE_HEIGHT - 1} fontSize={10.5} fill="var(--ink-soft)" textAnchor="middle">
          counts, log scale
        </text>
        {names.flatMap((name, i) =>
          bars(name).map((bar) => bar && <rect {...bar} {...LOOKS[i]} key={bar.key} />),
        )}
      </svg>
    </Box>
  );
}
