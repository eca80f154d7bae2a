import { Box } from "@mantine/core";
import { useMemo } from "react";
import type { ChartWindow } from "../../api/client";
import {
  drawBand,
  drawFindings,
  drawFlags,
  drawGaps,
  drawOverlay,
  drawPin,
  drawUnjudged,
  OVERLAY_DASHES,
} from "../../charts/drawing";
import { type Line, type Range, TimePane } from "../../charts/TimePane";
import { plural } from "../../parts/words";
import { PaneLabel } from "./PaneLabel";
import { Pennants } from "./Pennants";
import { Tip } from "./Tip";
import type { Cursor, PaneProps, StackProps } from "./types";
import type { Earlier } from "./useUnder";
import workbenchCss from "./workbench.module.css";

/** Dots: an earlier stretch is no line of this one. */
const EARLIER = [1, 3];

const FRESH = {
  current: "",
  refreshing: "refreshing",
  offline: "no connection: as it was",
  failed: "could not be read anew: as it was",
};

/** What was seen, what was expected, the band, and the marks of what was found. */
export function ValuesPane({
  props,
  pane,
  tall,
  redraw,
  laid,
  bounds,
  earlier,
  cursor,
  pin,
  unpin,
}: {
  props: StackProps;
  pane: PaneProps;
  tall: number;
  redraw: string;
  /** Other streams laid over this one, and the range they share with it. */
  laid: ChartWindow[];
  bounds?: Range;
  earlier: Earlier | null;
  cursor: Cursor | null;
  pin: number | null;
  unpin: () => void;
}) {
  const { stream, view, levels } = props;
  const { look, others } = props.address;
  const values = useMemo<Line[]>(
    () => [
      ...(view.expected ? [{ data: view.expected, stroke: "line" as const, width: 1, dash: [4, 4] }] : []),
      { data: view.value, stroke: "ink" as const, width: 1.2, isStep: look.isStep, hasPoints: true },
    ],
    [view, look.isStep],
  );
  const found = view.findings?.length ?? 0;
  const unit = stream.unit || "value";
  const isEmpty = !view.value.some(
    (v, i) => v !== null && (view.time[i] ?? 0) >= pane.range[0] && (view.time[i] ?? 0) <= pane.range[1],
  );
  return (
    <div className={workbenchCss.pane} data-fresh={props.freshness}>
      <PaneLabel>
        {unit}
        {view.share && `, ${stream.is_additive ? "sum" : "mean"} by the ${look.by}`}
        <span role="status"> {FRESH[props.freshness]}</span>
      </PaneLabel>
      {isEmpty && (
        <Box component="p" pos="absolute" left="40%" top="40%" className="front">
          No samples in this span.
        </Box>
      )}
      <TimePane
        {...pane}
        lines={values}
        height={tall}
        label={`${stream.title}: observed, expected and band in ${unit}; ${plural(found, "finding")} in sight`}
        redrawOn={redraw}
        bounds={bounds}
        isLog={look.isLog}
        under={(u, c) => {
          drawGaps(u, c, view);
          if (view.spread) drawBand(u, c, view, levels);
          drawUnjudged(u, c, view);
          if (earlier) drawOverlay(u, c, earlier.window, EARLIER, true);
        }}
        over={(u, c) => {
          for (const [i, w] of laid.entries())
            drawOverlay(u, c, w, OVERLAY_DASHES[i % OVERLAY_DASHES.length] ?? [], others.isCommon);
          drawFlags(u, c, view, (i) => view.value[i] ?? null, levels);
          drawFindings(u, c, view.findings ?? [], props.chosen, stream.bad_side);
          drawPin(u, c, pin);
        }}
      />
      <span />
      <Pennants
        findings={view.findings ?? []}
        range={props.range}
        chosen={props.chosen}
        choose={props.choose}
      />
      <Tip
        cursor={cursor}
        pin={pin}
        unpin={unpin}
        view={view}
        earlier={earlier}
        stream={stream}
        levels={levels}
        odds={props.odds}
      />
    </div>
  );
}
