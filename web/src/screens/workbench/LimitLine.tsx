import { useRef } from "react";
import { PAD_TOP, timeAxis } from "../../charts/paneOptions";
import type { Range } from "../../charts/shapes";
import { figure } from "../../parts/words";
import { DragLine } from "./DragLine";

/** Keys move the limit by a hundredth of what is in sight, and by a tenth. */
const STEPS: Record<string, number> = { ArrowUp: 0.01, ArrowDown: -0.01, PageUp: 0.1, PageDown: -0.1 };

/** A limit to drag over a pane, or to move by keys. */
export function LimitLine({
  limit,
  setLimit,
  bounds,
  height,
  range,
  unit,
}: {
  limit: number;
  setLimit: (limit: number) => void;
  bounds: Range;
  height: number;
  /** The span of the pane, by which its time axis is high. */
  range: Range;
  unit: string;
}) {
  // The scale at the beginning of a drag stays until its end: the axis follows the limit.
  const scale = useRef(bounds);
  const [low, high] = bounds;
  const rounded = (value: number) => Number(value.toPrecision(3));
  return (
    <DragLine
      colour="var(--above)"
      label="Limit"
      min={low}
      max={high}
      now={limit}
      words={`${figure(limit)} ${unit}`}
      tall={height - PAD_TOP - timeAxis({ range })}
      share={(high - limit) / (high - low || 1)}
      steps={STEPS}
      onStep={(by) => setLimit(rounded(limit + by * (high - low)))}
      onShare={(share) => {
        const [from, to] = scale.current;
        setLimit(rounded(to - share * (to - from)));
      }}
      onHold={() => {
        scale.current = bounds;
      }}
    >
      {figure(limit)}
    </DragLine>
  );
}
