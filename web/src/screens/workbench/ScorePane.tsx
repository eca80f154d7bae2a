import { useMemo } from "react";
import { drawBeyond, drawFlags, drawLevels } from "../../charts/drawing";
import { type Line, type Range, TimePane } from "../../charts/TimePane";
import { figure } from "../../parts/words";
import { Histogram } from "./Histogram";
import { LevelLine, SCORE_HEIGHT } from "./LevelLine";
import type { PaneProps, StackProps } from "./types";

/** The score over time, with the levels and, on the same axis, how many samples have which score. */
export function ScorePane({
  view,
  stream,
  levels,
  level,
  setLevel,
  pane,
  redraw,
}: StackProps & { pane: PaneProps; redraw: string }) {
  const sizes = useMemo(() => (view.score ?? []).map((s) => (s === null ? null : Math.abs(s))), [view.score]);
  const tallest = Math.max(levels.above ?? 0, levels.below ?? 0);
  const top = Math.max(8, Math.min(16, Math.ceil(tallest * 1.6))) + 0.5;
  const bounds = useMemo<Range>(() => [0, top], [top]);
  const lines = useMemo<Line[]>(
    () => [{ data: sizes.map((s) => (s === null ? null : Math.min(s, top))), stroke: "line", width: 1 }],
    [sizes, top],
  );
  return (
    <div className="pane" style={{ marginTop: 12 }}>
      <span className="pane-label">score, σ</span>
      <TimePane
        {...pane}
        lines={lines}
        height={SCORE_HEIGHT}
        bounds={bounds}
        hasTimeAxis={false}
        label={`${stream.title}: score in robust sigmas`}
        redrawOn={redraw}
        over={(u, c) => {
          drawFlags(u, c, view, (i) => Math.min(sizes[i] ?? 0, top), levels);
          drawLevels(u, c, levels);
          drawBeyond(u, c, view.time, sizes, top, (size) => figure(size, 1));
        }}
      />
      <Histogram counts={view.histogram} top={top} />
      <LevelLine levels={levels} level={level} setLevel={setLevel} top={top} />
    </div>
  );
}
