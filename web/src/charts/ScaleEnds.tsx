import { figure } from "../parts/words";

/** The least and the largest value beside a small drawing, at their heights. */
export function ScaleEnds({
  low,
  high,
  x,
  y,
}: {
  low: number;
  high: number;
  /** Where the scale ends at the right. */
  x: number;
  y: (value: number) => number;
}) {
  return [low, high].map((v) => (
    <text
      key={v}
      x={x}
      y={y(v) + 4}
      textAnchor="end"
      fontSize={10.5}
      fill="var(--ink-soft)"
      className="figure"
    >
      {figure(v, 2)}
    </text>
  ));
}
