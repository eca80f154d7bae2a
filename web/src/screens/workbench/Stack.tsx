import { useViewportSize } from "@mantine/hooks";
import { useCallback, useMemo, useRef, useState } from "react";
import { type ChartWindow, queryOf } from "../../api/client";
import { edgeAt } from "../../charts/band";
import {
  drawBand,
  drawFindings,
  drawFlags,
  drawGaps,
  drawOverlay,
  type Levels,
  OVERLAY_DASHES,
  sideOf,
} from "../../charts/drawing";
import { pngOf, save, svgOf } from "../../charts/picture";
import { AXIS_WIDTH, type Line, PAD_BOTTOM, PAD_TOP, type Range, TimePane } from "../../charts/TimePane";
import { tickWords } from "../../charts/ticks";
import { dayTime, figure, hours, zoneName } from "../../parts/words";
import { Explain } from "./Explain";
import { Fold } from "./Fold";
import { Forms } from "./Forms";
import { FindingLane, type Pinned, scanWords } from "./Lanes";
import { LogbookLane } from "./LogbookLane";
import { Minimap } from "./Minimap";
import { boundsOf, Others, type OthersChoice, useOthers } from "./Others";
import { SeasonRuler } from "./SeasonRuler";
import type { StreamFacts } from "./Workbench";

export const SCORE_HEIGHT = 170;
const GUTTER = 108;

interface Props {
  stream: StreamFacts;
  view: ChartWindow;
  overview?: ChartWindow;
  whole: Range;
  range: Range;
  /** A span was drawn with Shift held, to write about. */
  onSpan: (range: Range) => void;
  setRange: (range: Range) => void;
  levels: Levels;
  level: number | null;
  setLevel: (level: number) => void;
  chosen: number | null;
  choose: (finding: number) => void;
  hasParts: boolean;
  setParts: (open: boolean) => void;
  scanId: number | null;
  /** Lanes under the logbook: the replay of this plan and the pinned scans, with their letters. */
  lanes: (Pinned & { name: string })[];
  others: OthersChoice;
  setOthers: (choice: OthersChoice) => void;
  /** Plan, version and scan, for pictures that are saved. */
  source: string;
  /** Odds of a score, where the stream's tails tell them. */
  odds: (score: number | null) => number | null;
  open: { fold: boolean; forms: boolean; explain: boolean };
  setOpen: (part: "fold" | "forms" | "explain", open: boolean) => void;
}

/** Height of the values pane: what the other panes leave of the window. */
function useTall(): number {
  const { height } = useViewportSize();
  return Math.min(620, Math.max(240, height - 452));
}

/** A stack of panes on one time axis. */
export function Stack(props: Props) {
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
  const shared = { range, zone: stream.zone, tickWords: words, onRange: setRange, onSpan: props.onSpan };
  const pane = { ...shared, time: view.time, onCursor };
  return (
    <div>
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
      {hasScan && props.scanId !== null && <Saving {...props} words={words} scanId={props.scanId} />}
      {view.reduced && (
        <p className="soft small" style={{ margin: `2px 0 0 ${AXIS_WIDTH}px` }}>
          {figure(view.total)} samples in reach, drawn with every extreme kept; zoom in for each one.
        </p>
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
      {hasScan && (
        <>
          <FoldHead
            name="Explain"
            isOpen={props.open.explain}
            setOpen={(open) => props.setOpen("explain", open)}
            words={props.chosen === null ? "choose a finding: n and p step through them" : chosenWords(props)}
          />
          {props.open.explain && props.chosen !== null && (
            <Explain finding={props.chosen} zone={stream.zone} />
          )}
        </>
      )}
      {props.overview && (
        <Minimap overview={props.overview} whole={props.whole} range={range} setRange={setRange} />
      )}
    </div>
  );
}

/** The picture with its title, units and source, and its samples as the command line writes them. */
function Saving({
  stream,
  view,
  range,
  levels,
  source,
  words,
  scanId,
}: Props & { words: ReturnType<typeof tickWords>; scanId: number }) {
  const name = `${stream.metric}-${stream.title}`.replace(/[^\p{L}\p{N}]+/gu, "-");
  const picture = () =>
    svgOf(
      view,
      range,
      levels,
      { title: `${stream.metric}: ${stream.title}`, unit: stream.unit, zone: stream.zone, source },
      words,
    );
  return (
    <p className="saving small">
      Save what is in sight:{" "}
      <button
        type="button"
        className="act"
        onClick={() => save(`${name}.svg`, new Blob([picture()], { type: "image/svg+xml" }))}
      >
        SVG
      </button>{" "}
      <button
        type="button"
        className="act"
        onClick={() => void pngOf(picture()).then((b) => save(`${name}.png`, b))}
      >
        PNG
      </button>{" "}
      <a
        className="act"
        download
        href={`/api/v1/scans/${scanId}/streams/${stream.id}/points.csv?${queryOf({ from: range[0], to: range[1] })}`}
      >
        CSV
      </a>
    </p>
  );
}

function chosenWords({ view, overview, chosen, stream }: Props): string {
  const f = [...(view.findings ?? []), ...(overview?.findings ?? [])].find((x) => x.id === chosen);
  return f
    ? `${f.kind} ${f.direction || "without a side"}, ${dayTime(f.start, stream.zone)}, ${figure(f.score, 1)} σ`
    : "";
}

function FoldHead({
  name,
  isOpen,
  setOpen,
  words,
}: {
  name: string;
  isOpen: boolean;
  setOpen: (open: boolean) => void;
  words: string;
}) {
  return (
    <div className="fold">
      <button type="button" aria-expanded={isOpen} onClick={() => setOpen(!isOpen)}>
        {isOpen ? "▾" : "▸"} {name}
      </button>
      <span className="soft small">{words}</span>
    </div>
  );
}

/** What was learnt from: the training part filled, what came after open, validation and locked spans named. */
function SplitBar({ view, range }: { view: ChartWindow; range: Range }) {
  const split = (view.resolved as { split?: Record<string, [string, string]> } | undefined)?.split ?? {};
  const x = (ms: number) => Math.min(100, Math.max(0, ((ms - range[0]) / (range[1] - range[0])) * 100));
  const until = view.train_until ?? null;
  if (until === null && Object.keys(split).length === 0) return null;
  return (
    <div style={{ position: "relative", marginRight: GUTTER }}>
      <span className="lane-name">split</span>
      <div className="span-lane split">
        <div
          className="trained"
          style={{ width: `${x(until ?? range[1])}%` }}
          title="training: what the baseline learnt from"
        />
        {Object.entries(split).map(([name, [a, b]]) => (
          <div
            key={name}
            className="held"
            style={{ left: `${x(Date.parse(a))}%`, width: `${x(Date.parse(b)) - x(Date.parse(a))}%` }}
            title={`${name}: never learnt from`}
          >
            {name}
          </div>
        ))}
      </div>
    </div>
  );
}

type PaneProps = Pick<
  Parameters<typeof TimePane>[0],
  "time" | "range" | "zone" | "tickWords" | "onRange" | "onSpan" | "onCursor"
>;

function Tip({
  cursor,
  view,
  stream,
  levels,
  odds,
}: {
  cursor: { index: number; left: number };
  odds: Props["odds"];
  view: ChartWindow;
  stream: StreamFacts;
  levels: Levels;
}) {
  const i = cursor.index;
  const at = view.time[i];
  if (at === undefined || at === null) return null;
  const seen = view.value[i] ?? null;
  const expected = view.expected?.[i] ?? null;
  const score = view.score?.[i] ?? null;
  const side = sideOf(score, levels);
  const low = levels.below !== null ? edgeAt(view, i, -1, levels.below) : null;
  const high = levels.above !== null ? edgeAt(view, i, 1, levels.above) : null;
  const rare = odds(score);
  const off = seen !== null && expected !== null ? seen - expected : null;
  return (
    <div
      className="tip"
      style={{ left: AXIS_WIDTH + (cursor.left > 380 ? cursor.left - 210 : cursor.left + 18), top: 30 }}
    >
      <strong>
        {dayTime(at, stream.zone)} {zoneName(at, stream.zone)}
      </strong>
      <dl>
        <dt>seen</dt>
        <dd>{seen === null ? "missing" : `${figure(seen)} ${stream.unit}`}</dd>
        {expected !== null && (
          <>
            <dt>expected</dt>
            <dd>{figure(expected)}</dd>
            <dt>range</dt>
            <dd>
              {figure(low)} – {figure(high)}
            </dd>
            <dt>off by</dt>
            <dd className={side > 0 ? "above" : side < 0 ? "below" : ""}>
              {off !== null && off > 0 ? "+" : ""}
              {figure(off)} · {figure(score === null ? null : Math.abs(score), 1)} σ
            </dd>
            {rare !== null && (
              <>
                <dt>by chance</dt>
                <dd>1 in {figure(rare, 0)}</dd>
              </>
            )}
          </>
        )}
      </dl>
    </div>
  );
}

function ScorePane({
  view,
  stream,
  levels,
  level,
  setLevel,
  pane,
  redraw,
}: Props & { pane: PaneProps; redraw: string }) {
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
        over={(u, c) => drawFlags(u, c, view, (i) => Math.min(sizes[i] ?? 0, top), levels)}
      />
      <Histogram counts={view.histogram} top={top} />
      <LevelLine levels={levels} level={level} setLevel={setLevel} top={top} />
    </div>
  );
}

const yOf = (sigmas: number, top: number) =>
  PAD_TOP + (1 - sigmas / top) * (SCORE_HEIGHT - PAD_TOP - PAD_BOTTOM);

/** The scores turned sideways on the same axis, unlabelled beside incident; bar lengths by the log of the count. */
function Histogram({ counts, top }: { counts?: ChartWindow["histogram"]; top: number }) {
  if (!counts) return <span />;
  const most = Math.log1p(Math.max(...(counts.unlabelled ?? [1]), 1));
  const bars = (name: string) =>
    (counts[name] ?? []).map((n, i) => {
      const a = yOf(Math.min(i / 2, top), top);
      const b = yOf(Math.min((i + 1) / 2, top), top);
      const width = (46 * Math.log1p(n)) / most;
      return n > 0 && a - b > 0.5 ? { key: `${name}${i}`, y: b, height: a - b - 1, width, n } : null;
    });
  return (
    <svg
      width={GUTTER}
      height={SCORE_HEIGHT}
      role="img"
      aria-label="How many samples have which score, unlabelled and inside incidents"
    >
      <text x="4" y="9" fontSize="10.5" fill="var(--ink-soft)">
        unlabelled
      </text>
      <text x={GUTTER - 2} y="9" fontSize="10.5" fill="var(--above)" textAnchor="end">
        incident
      </text>
      {bars("unlabelled").map(
        (b) =>
          b && (
            <rect
              key={b.key}
              x="4"
              y={b.y}
              width={b.width}
              height={b.height}
              fill="var(--line)"
              opacity="0.65"
            />
          ),
      )}
      {bars("incident").map(
        (b) =>
          b && (
            <rect
              key={b.key}
              x="58"
              y={b.y}
              width={b.width}
              height={b.height}
              fill="none"
              stroke="var(--above)"
            />
          ),
      )}
    </svg>
  );
}

/** The level as a line to drag: one for both sides while dragging; keys move it by 0.05. */
function LevelLine({
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

function Components({ view, hasParts, setParts, pane }: Props & { pane: PaneProps }) {
  const parts = useMemo(() => {
    if (!hasParts || !view.trend) return [];
    const remainder = view.value.map((v, i) =>
      v === null || view.expected?.[i] == null ? null : v - (view.expected[i] ?? 0),
    );
    return [
      { name: "trend", data: view.trend },
      ...(view.seasons ?? []).map((data, i) => ({
        name: `season ${hours(view.season_hours?.[i] ?? 0)}`,
        data,
      })),
      { name: "remainder", data: remainder },
    ].map((p) => ({ ...p, lines: [{ data: p.data, stroke: "ink" as const, width: 1.1 }] }));
  }, [hasParts, view]);
  const names = ["trend", ...(view.season_hours ?? []).map((h) => hours(h)), "remainder"].join(", ");
  return (
    <>
      <div className="fold">
        <button type="button" aria-expanded={hasParts} onClick={() => setParts(!hasParts)}>
          {hasParts ? "▾" : "▸"} Components
        </button>
        <span className="soft small">{names}; they add up to what was seen</span>
      </div>
      {parts.map((p) => (
        <div className="pane" key={p.name} style={{ marginTop: 6 }}>
          <span className="pane-label">{p.name}</span>
          <TimePane {...pane} lines={p.lines} height={84} hasTimeAxis={false} label={p.name} />
          <span />
        </div>
      ))}
    </>
  );
}
