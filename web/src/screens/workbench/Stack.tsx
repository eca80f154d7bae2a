import { useViewportSize } from "@mantine/hooks";
import { useCallback, useMemo, useState } from "react";
import {
  drawBand,
  drawFindings,
  drawFlags,
  drawGaps,
  drawOverlay,
  OVERLAY_DASHES,
} from "../../charts/drawing";
import { AXIS_WIDTH, type Line, TimePane } from "../../charts/TimePane";
import { tickWords } from "../../charts/ticks";
import { figure } from "../../parts/words";
import { Components } from "./Components";
import { Fold } from "./Fold";
import { FoldHead } from "./FoldHead";
import { Forecast } from "./Forecast";
import { Forms } from "./Forms";
import { FindingLane, scanWords } from "./Lanes";
import { Legend } from "./Legend";
import { LogbookLane } from "./LogbookLane";
import { Minimap } from "./Minimap";
import { boundsOf, Others, useOthers } from "./Others";
import { Pennants } from "./Pennants";
import { Saving } from "./Saving";
import { ScorePane } from "./ScorePane";
import { SeasonRuler } from "./SeasonRuler";
import { SpanBar } from "./SpanBar";
import { SplitBar } from "./SplitBar";
import { Tip } from "./Tip";
import type { Ahead, StackProps } from "./types";

const AHEAD: Ahead = { days: "7", interval: "0.9", skip: 0, side: "none", limit: null };

/** Height of the values pane: what the other panes leave of the window. */
function useTall(): number {
  const { height } = useViewportSize();
  return Math.min(620, Math.max(240, height - 452));
}

/** A stack of panes on one time axis. */
export function Stack(props: StackProps) {
  const { stream, view, range, setRange, levels } = props;
  const [cursor, setCursor] = useState<{ index: number; left: number } | null>(null);
  const words = useMemo(() => tickWords(stream.zone), [stream.zone]);
  const hasScan = Boolean(view.score);
  const tall = useTall();
  const values = useMemo<Line[]>(
    () => [
      ...(view.expected ? [{ data: view.expected, stroke: "line" as const, width: 1, dash: [4, 4] }] : []),
      { data: view.value, stroke: "ink" as const, width: 1.2 },
    ],
    [view],
  );
  const onCursor = useCallback(
    (index: number | null, left: number) => setCursor(index === null || left < 0 ? null : { index, left }),
    [],
  );
  const [isAsked, setAsked] = useState(false);
  const { isOver, isCommon } = props.others;
  const others = useOthers(props.others.ids, range, isAsked);
  const views = others.streams.flatMap((o) => (o.view ? [o.view] : []));
  const laid = isOver ? views : [];
  const common = isCommon && views.length ? boundsOf([view, ...views]) : undefined;
  const bounds = isOver ? common : undefined;
  const redraw = `${laid.map((w) => w.time[0]).join()} ${bounds?.join()} ${levels.above} ${levels.below} ${props.chosen} ${view.findings?.map((f) => f.verdict).join()}`;
  const shared = {
    range,
    zone: stream.zone,
    tickWords: words,
    onRange: setRange,
    onSpan: props.onSpan,
    onPick: props.pick,
    onReset: props.reset,
  };
  const pane = { ...shared, time: view.time, onCursor };
  return (
    <div>
      <SpanBar range={range} whole={props.whole} step_s={stream.step_s} setRange={setRange} />
      <SeasonRuler hours={view.season_hours ?? []} range={range} zone={stream.zone} />
      <div className="pane">
        <span className="pane-label">{stream.unit || "value"}</span>
        <TimePane
          {...pane}
          lines={values}
          height={hasScan ? tall : tall + 160}
          label={`${stream.title}: observed, expected and band in ${stream.unit || "units"}; ${view.findings?.length ?? 0} findings in sight`}
          redrawOn={redraw}
          bounds={bounds}
          under={(u, c) => {
            drawGaps(u, c, view);
            if (hasScan) drawBand(u, c, view, levels);
          }}
          over={(u, c) => {
            for (const [i, w] of laid.entries())
              drawOverlay(u, c, w, OVERLAY_DASHES[i % OVERLAY_DASHES.length] ?? [], isCommon);
            drawFlags(u, c, view, (i) => view.value[i] ?? null, levels);
            drawFindings(u, c, view.findings ?? [], props.chosen, stream.bad_side);
          }}
        />
        <span />
        <Pennants findings={view.findings ?? []} range={range} chosen={props.chosen} choose={props.choose} />
        {cursor && <Tip cursor={cursor} view={view} stream={stream} levels={levels} odds={props.odds} />}
      </div>
      {hasScan && <LogbookLane entries={view.entries ?? []} range={range} zone={stream.zone} />}
      {hasScan && <SplitBar view={view} range={range} />}
      {props.lanes.map((lane) => (
        <FindingLane
          key={lane.scan.id}
          name={lane.name}
          words={scanWords(lane.scan)}
          findings={lane.window?.findings ?? []}
          range={range}
          zone={stream.zone}
        />
      ))}
      {hasScan && <ScorePane {...props} pane={pane} redraw={redraw} />}
      <Others
        stream={stream}
        bounds={common}
        choice={props.others}
        {...others}
        ask={() => setAsked(true)}
        pane={shared}
        onChange={props.setOthers}
      />
      <Legend view={view} range={range} badSide={stream.bad_side} />
      {hasScan && props.scanId !== null && <Saving {...props} words={words} scanId={props.scanId} />}
      {view.reduced && (
        <p className="soft small" style={{ margin: `2px 0 0 ${AXIS_WIDTH}px` }}>
          {figure(view.total)} samples in reach, drawn with every extreme kept; zoom in for each one.
        </p>
      )}
      {hasScan && (
        <>
          <FoldHead
            name="Forecast"
            isOpen={props.ahead !== null}
            setOpen={(open) => props.setAhead(open ? AHEAD : null)}
            words="what the plan expects next, how sure, and when a limit is reached"
          />
          {props.ahead && (
            <Forecast stream={stream} plan={props.plan} ahead={props.ahead} setAhead={props.setAhead} />
          )}
        </>
      )}
      {hasScan && props.scanId !== null && (
        <>
          <FoldHead
            name="Season fold"
            isOpen={props.open.fold}
            setOpen={(open) => props.setOpen("fold", open)}
            words="all seasons over one another"
          />
          {props.open.fold && (
            <Fold
              stream={stream}
              scanId={props.scanId}
              seasons={view.season_hours ?? []}
              at={(range[0] + range[1]) / 2}
            />
          )}
        </>
      )}
      {hasScan && <Components {...props} pane={pane} />}
      {hasScan && props.scanId !== null && (view.season_hours ?? []).length > 0 && (
        <>
          <FoldHead
            name="Both forms"
            isOpen={props.open.forms}
            setOpen={(open) => props.setOpen("forms", open)}
            words="parts that add beside parts that multiply, and what speaks for either"
          />
          {props.open.forms && (
            <Forms streamId={stream.id} unit={stream.unit} scanId={props.scanId} pane={shared} />
          )}
        </>
      )}
      {props.overview && (
        <Minimap overview={props.overview} whole={props.whole} range={range} setRange={setRange} />
      )}
    </div>
  );
}
