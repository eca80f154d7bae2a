import { useViewportSize } from "@mantine/hooks";
import { useCallback, useDeferredValue, useMemo, useState } from "react";
import type { Range } from "../../charts/TimePane";
import { tickWords } from "../../charts/ticks";
import { useKeys } from "../../keys/useKeys";
import { figure } from "../../parts/words";
import { ChartWords } from "./ChartWords";
import { Components } from "./Components";
import { Folds } from "./Folds";
import { FindingLane, scanWords } from "./Lanes";
import { Legend } from "./Legend";
import { LogbookLane } from "./LogbookLane";
import { Minimap } from "./Minimap";
import { boundsOf, Others, useOthers } from "./Others";
import { Saving } from "./Saving";
import { ScorePane } from "./ScorePane";
import { SeasonRuler } from "./SeasonRuler";
import { SplitBar } from "./SplitBar";
import type { Cursor, StackProps } from "./types";
import { useUnder } from "./useUnder";
import { ValuesPane } from "./ValuesPane";

/** Height of the values pane: what the other panes leave of the window. */
function useTall(): number {
  const { height } = useViewportSize();
  return Math.min(620, Math.max(240, height - 496));
}

/** The pinned moment: a press where nothing was found, or a key, takes one and lets go of it. */
function usePin(pick: StackProps["pick"], under: number | null) {
  const [pin, setPin] = useState<number | null>(null);
  const unpin = () => setPin(null);
  const turn = (moment: number | null) => setPin((old) => (old === null ? moment : null));
  useKeys({ x: () => turn(under), Escape: unpin });
  const press = (moment: number, tolerance: number) => pick(moment, tolerance) || turn(moment);
  return { pin, press, unpin };
}

/** A stack of panes on one time axis. */
export function Stack(props: StackProps) {
  const { stream, view, range, setRange, levels, address, change } = props;
  const [cursor, setCursor] = useState<Cursor | null>(null);
  const words = useMemo(() => tickWords(stream.zone), [stream.zone]);
  const hasScan = Boolean(view.score);
  const tall = useTall();
  // What lies under the score may come a moment later than the chart.
  const isBelowDue = useDeferredValue(true, false);
  const onCursor = useCallback(
    (index: number | null, left: number) => setCursor(index === null || left < 0 ? null : { index, left }),
    [],
  );
  const { pin, press, unpin } = usePin(props.pick, cursor ? (view.time[cursor.index] ?? null) : null);
  const { isOver, isCommon } = address.others;
  const others = useOthers(address.others.ids, range);
  const views = others.flatMap((o) => (o.view ? [o.view] : []));
  const laid = isOver ? views : [];
  const common = isCommon && views.length ? boundsOf([view, ...views]) : undefined;
  const bounds = isOver ? common : undefined;
  const reach: Range = [view.time[0] ?? range[0], view.time.at(-1) ?? range[1]];
  const earlier = useUnder(stream, address.look, view.season_hours ?? [], reach);
  const redraw = `${laid.map((w) => w.time[0]).join()} ${bounds?.join()} ${levels.above} ${levels.below} ${props.chosen} ${view.findings?.map((f) => f.verdict).join()} ${pin} ${earlier?.window.time[0]} ${earlier?.window.time.length}`;
  const shared = {
    range,
    zone: stream.zone,
    tickWords: words,
    onRange: setRange,
    onSpan: props.onSpan,
    onPick: press,
    onReset: props.reset,
  };
  const pane = { ...shared, time: view.time, onCursor };
  return (
    <div>
      <ChartWords
        stream={stream}
        range={range}
        whole={props.whole}
        setRange={setRange}
        look={address.look}
        setLook={(look) => change({ look })}
      />
      <SeasonRuler hours={view.season_hours ?? []} range={range} zone={stream.zone} />
      <ValuesPane
        props={props}
        pane={pane}
        tall={hasScan ? tall : tall + 160}
        {...{ redraw, laid, bounds, earlier, cursor, pin, unpin }}
      />
      {props.overview && (
        <Minimap overview={props.overview} whole={props.whole} range={range} setRange={setRange} />
      )}
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
      {hasScan && <ScorePane {...props} pane={pane} redraw={redraw} pin={pin} />}
      {isBelowDue && (
        <Others
          stream={stream}
          bounds={common}
          choice={address.others}
          streams={others}
          pane={shared}
          onChange={(others) => change({ others })}
        />
      )}
      <Legend view={view} range={range} badSide={stream.bad_side} earlier={earlier?.words ?? ""} />
      {isBelowDue && hasScan && props.scanId !== null && (
        <Saving {...props} words={words} scanId={props.scanId} />
      )}
      {view.reduced && (
        <p className="soft small">
          {figure(view.total)} samples in reach, drawn with every extreme kept; zoom in for each one.
        </p>
      )}
      {isBelowDue && hasScan && <Folds {...props} pane={shared} />}
      {isBelowDue && hasScan && <Components {...props} pane={pane} />}
    </div>
  );
}
