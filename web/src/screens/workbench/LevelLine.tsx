import { useRef } from "react";
import type { Levels } from "../../charts/drawing";
import { PAD_BOTTOM, PAD_TOP } from "../../charts/TimePane";

export const SCORE_HEIGHT = 170;

/** Where a score lies in the pane. */
export const yOf = (sigmas: number, top: number) =>
  PAD_TOP + (1 - sigmas / top) * (SCORE_HEIGHT - PAD_TOP - PAD_BOTTOM);

/** The level as a line to drag: one for both sides while dragging; keys move it by 0.05. */
export function LevelLine({
  levels,
  level,
  setLevel,
  top,
}: {
  levels: Levels;
  level: number | null;
  setLevel: (level: number) => void;
  top: number;
}) {
  const line = useRef<HTMLDivElement>(null);
  const inForce = Math.min(
    levels.above ?? Number.POSITIVE_INFINITY,
    levels.below ?? Number.POSITIVE_INFINITY,
  );
  const shown = level ?? inForce;
  const isSplit =
    level === null && levels.above !== null && levels.below !== null && levels.above !== levels.below;
  const set = (value: number) => setLevel(Math.min(12, Math.max(2, Math.round(value * 20) / 20)));
  const drag = (event: React.PointerEvent) => {
    if (!event.currentTarget.hasPointerCapture(event.pointerId)) return;
    const box = line.current?.parentElement?.getBoundingClientRect();
    if (!box) return;
    set((1 - (event.clientY - box.top - PAD_TOP) / (SCORE_HEIGHT - PAD_TOP - PAD_BOTTOM)) * top);
  };
  if (!Number.isFinite(shown)) return null;
  return (
    <div
      ref={line}
      className="level"
      role="slider"
      tabIndex={0}
      aria-label="Level from which samples are flagged, in sigmas"
      aria-valuemin={2}
      aria-valuemax={12}
      aria-valuenow={Number(shown.toFixed(2))}
      aria-valuetext={`${shown.toFixed(2)} sigmas`}
      data-split={isSplit || undefined}
      style={{ top: yOf(Math.min(shown, top), top) }}
      onPointerDown={(e) => e.currentTarget.setPointerCapture(e.pointerId)}
      onPointerMove={drag}
      onKeyDown={(e) => {
        const by = { ArrowUp: 0.05, ArrowDown: -0.05, PageUp: 0.5, PageDown: -0.5 }[e.key];
        if (by === undefined) return;
        e.preventDefault();
        e.stopPropagation();
        set(shown + by);
      }}
    >
      <output
        title={isSplit ? `above ${levels.above?.toFixed(2)}, below ${levels.below?.toFixed(2)}` : undefined}
      >
        {isSplit ? `${levels.above?.toFixed(1)}/${levels.below?.toFixed(1)}` : shown.toFixed(2)}
      </output>
    </div>
  );
}
