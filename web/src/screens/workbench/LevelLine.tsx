import type { Levels } from "../../charts/drawing";
import { PAD_BOTTOM, PAD_TOP } from "../../charts/TimePane";
import { DragLine } from "./DragLine";

export const SCORE_HEIGHT = 170;
const TALL = SCORE_HEIGHT - PAD_TOP - PAD_BOTTOM;
const STEPS = { ArrowUp: 0.05, ArrowDown: -0.05, PageUp: 0.5, PageDown: -0.5 };

/** Where a score lies in the pane. */
export const yOf = (sigmas: number, top: number) => PAD_TOP + (1 - sigmas / top) * TALL;

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
  const inForce = Math.min(
    levels.above ?? Number.POSITIVE_INFINITY,
    levels.below ?? Number.POSITIVE_INFINITY,
  );
  const shown = level ?? inForce;
  const isSplit =
    level === null && levels.above !== null && levels.below !== null && levels.above !== levels.below;
  const set = (value: number) => setLevel(Math.min(12, Math.max(2, Math.round(value * 20) / 20)));
  if (!Number.isFinite(shown)) return null;
  return (
    <DragLine
      label="Level from which samples are flagged, in sigmas"
      min={2}
      max={12}
      now={Number(shown.toFixed(2))}
      words={`${shown.toFixed(2)} sigmas`}
      tall={TALL}
      share={1 - Math.min(shown, top) / top}
      steps={STEPS}
      onStep={(by) => set(shown + by)}
      onShare={(share) => set((1 - share) * top)}
      isSplit={isSplit}
      title={isSplit ? `above ${levels.above?.toFixed(2)}, below ${levels.below?.toFixed(2)}` : undefined}
    >
      {isSplit ? `${levels.above?.toFixed(1)}/${levels.below?.toFixed(1)}` : shown.toFixed(2)}
    </DragLine>
  );
}
