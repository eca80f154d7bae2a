import { useRef } from "react";
import { PAD_TOP, type Range, TIME_AXIS } from "../../charts/TimePane";
import { figure } from "../../parts/words";

/** Keys move the limit by a hundredth of what is in sight, and by a tenth. */
const STEPS: Record<string, number> = { ArrowUp: 0.01, ArrowDown: -0.01, PageUp: 0.1, PageDown: -0.1 };

/** A limit to drag over a pane, or to move by keys. */
export function LimitLine({
  limit,
  setLimit,
  bounds,
  height,
  unit,
}: {
  limit: number;
  setLimit: (limit: number) => void;
  bounds: Range;
  height: number;
  unit: string;
}) {
  const line = useRef<HTMLDivElement>(null);
  // The scale at the beginning of a drag holds until its end: the axis follows the limit.
  const held = useRef(bounds);
  const [low, high] = bounds;
  const tall = height - PAD_TOP - TIME_AXIS;
  const rounded = (value: number) => Number(value.toPrecision(3));
  const drag = (event: React.PointerEvent) => {
    if (!event.currentTarget.hasPointerCapture(event.pointerId)) return;
    const box = line.current?.parentElement?.getBoundingClientRect();
    if (!box) return;
    const [from, to] = held.current;
    setLimit(rounded(to - ((event.clientY - box.top - PAD_TOP) / tall) * (to - from)));
  };
  return (
    <div
      ref={line}
      className="level limit"
      role="slider"
      tabIndex={0}
      aria-label="Limit"
      aria-valuemin={low}
      aria-valuemax={high}
      aria-valuenow={limit}
      aria-valuetext={`${figure(limit)} ${unit}`}
      style={{ top: PAD_TOP + ((high - limit) / (high - low || 1)) * tall }}
      onPointerDown={(e) => {
        held.current = bounds;
        e.currentTarget.setPointerCapture(e.pointerId);
      }}
      onPointerMove={drag}
      onKeyDown={(e) => {
        const by = STEPS[e.key];
        if (by === undefined) return;
        e.preventDefault();
        e.stopPropagation();
        setLimit(rounded(limit + by * (high - low)));
      }}
    >
      <output>{figure(limit)}</output>
    </div>
  );
}
