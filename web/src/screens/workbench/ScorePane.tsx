import { Box } from "@mantine/core";
import { useMemo } from "react";
import { drawBeyond, drawFlags, drawLevels, drawPin } from "../../charts/drawing";
import { type Line, type Range, TimePane } from "../../charts/TimePane";
import { figure } from "../../parts/words";
import { Histogram } from "./Histogram";
import { LevelLine, SCORE_HEIGHT } from "./LevelLine";
import { PaneLabel } from "./PaneLabel";
import type { PaneProps, StackProps } from "./types";
import workbenchCss from "./workbench.module.css";

/** The score over time, with the levels and, on the same axis, how many samples have which score. */
export function ScorePane({
  view,
  stream,
  levels,
  level,
  setLevel,
  pane,
  redraw,
  pin,
}: StackProps & { pane: PaneProps; redraw: string; pin: number | null }) {
  const sizes = useMemo(() => (view.score ?? []).map((s) => (s === null ? null : Math.abs(s))), [view.score]);
  const tallest = Math.max(levels.above ?? 0, levels.below ?? 0);
  const top = Math.max(8, Math.min(16, Math.ceil(tallest * 1.6))) + 0.5;
  const bounds = useMemo<Range>(() => [0, top], [top]);
  // Both sides on one axis of size, so that one line cuts both; they differ in colour and in dash.
  const lines = useMemo<Line[]>(() => {
    const of = (sign: number) =>
      (view.score ?? []).map((s) => (s === null ? null : Math.min(Math.max(sign * s, 0), top)));
    return [
      { data: of(1), stroke: "above", width: 1 },
      { data: of(-1), stroke: "below", width: 1, dash: [3, 2] },
    ];
  }, [view.score, top]);
  return (
    <Box mt={14} className={workbenchCss.pane}>
      <PaneLabel>
        score, σ <span className="above">above</span> <span className="below">below (broken)</span>
      </PaneLabel>
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
          drawPin(u, c, pin);
        }}
      />
      <Histogram counts={view.histogram} top={top} />
      <LevelLine levels={levels} level={level} setLevel={setLevel} top={top} />
    </Box>
  );
}
