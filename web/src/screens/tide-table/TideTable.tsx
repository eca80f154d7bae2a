import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useMemo, useRef, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { api, type Finding, get, type TideRow } from "../../api/client";
import { Ribbon } from "../../charts/Ribbon";
import { ticks } from "../../charts/ticks";
import { TopBar } from "../../frame";
import { useKeys } from "../../keys/useKeys";
import { Trouble, Waiting } from "../../parts/ask";
import { FilterField } from "../../parts/FilterField";
import { isBad, Mark } from "../../parts/marks";
import { Taking } from "../../parts/Taking";
import { day, dayTime, duration, figure, plural, spanWords, utc, zoneName } from "../../parts/words";
import "./tide-table.css";

type Line = { kind: "family"; metric: string; rows: TideRow[] } | { kind: "stream"; row: TideRow };

export default function TideTable() {
  const [params, setParams] = useSearchParams();
  const caps = capsOf(params);
  const chosen = spanOf(params);
  const asked = { ...caps, ...(chosen ? { begin: chosen[0], end: chosen[1] } : {}) };
  const tide = useQuery({
    queryKey: ["tide", asked],
    queryFn: () => get(api.GET("/api/v1/tide", { params: { query: asked } })),
    placeholderData: keepPreviousData,
  });
  const sort = params.get("sort") ?? "strongest";
  const text = params.get("filter") ?? "";
  const set = (name: string, value: string) => {
    const next = new URLSearchParams(params);
    if (value) next.set(name, value);
    else next.delete(name);
    setParams(next, { replace: true });
  };
  // Seen: what comes after this is new the next time.
  const isThere = Boolean(tide.data);
  useEffect(() => {
    if (!isThere) return;
    return () => void api.POST("/api/v1/tide/looked").catch(() => undefined);
  }, [isThere]);
  const lines = useMemo(() => arrange(tide.data?.rows ?? [], sort, text), [tide.data, sort, text]);
  if (tide.isPending) return <Waiting what="Reading the tide table" />;
  if (tide.isError) return <Trouble error={tide.error} retry={() => tide.refetch()} />;
  const { rows, span_from, span_to, zone } = tide.data;
  if (!rows.length) return <NoStreams />;
  const whole: Span = [span_from ?? 0, span_to ?? 1];
  const span = chosen ?? whole;
  const setSpan = (next: Span | null) =>
    setParams(
      (old) => {
        const changed = new URLSearchParams(old);
        for (const [i, name] of ["from", "to"].entries()) {
          if (next === null) changed.delete(name);
          else changed.set(name, String(Math.round(next[i] ?? 0)));
        }
        return changed;
      },
      { replace: true },
    );
  const badSides = new Map(rows.map((r) => [r.id, r.bad_side]));
  return (
    <div className="tide">
      <TopBar>
        <h1>Tide table</h1>
        <span style={{ flex: 1 }} />
        {span_from !== null && (
          <span className="figure small" title={`${utc(span[0])} to ${utc(span[1])}`}>
            {spanWords(span[0], span[1], zone)} · {zone} ({zoneName(span[1], zone)})
          </span>
        )}
        {chosen && (
          <button type="button" className="act" onClick={() => setSpan(null)}>
            Whole span
          </button>
        )}
      </TopBar>
      <Strongest
        findings={tide.data.strongest}
        open={tide.data.open}
        fresh={tide.data.new}
        looked={tide.data.last_looked ?? null}
        badSides={badSides}
        caps={caps}
        setCap={(name, value) => set(name, value === CAPS[name] ? "" : String(value))}
      />
      <div className="tide-tools">
        <label>
          Sorted by{" "}
          <select className="word" value={sort} onChange={(e) => set("sort", e.target.value)}>
            <option value="strongest">strongest</option>
            <option value="newest">newest</option>
            <option value="open">most open</option>
            <option value="name">name</option>
          </select>
        </label>
        <FilterField
          label="Filter streams"
          hint="Filter: place, route, state …"
          value={text}
          onChange={(value) => set("filter", value)}
        />
        <span className="soft small" style={{ marginLeft: "auto" }}>
          {plural(lines.filter((l) => l.kind === "stream").length, "stream")}
        </span>
      </div>
      <Rows lines={lines} span={span} whole={whole} setSpan={setSpan} zone={zone} />
      <Legend />
    </div>
  );
}

type Span = [number, number];
type Cap = "most" | "family" | "stream";
const CAPS: Record<Cap, number> = { most: 8, family: 3, stream: 1 };
const CHOICES: Record<Cap, number[]> = {
  most: [4, 8, 12, 20],
  family: [1, 2, 3, 5, 20],
  stream: [1, 2, 3, 5, 20],
};

function capsOf(params: URLSearchParams): Record<Cap, number> {
  const of = (name: Cap) => Number(params.get(name)) || CAPS[name];
  return { most: of("most"), family: of("family"), stream: of("stream") };
}

function spanOf(params: URLSearchParams): Span | null {
  const [a, b] = ["from", "to"].map((name) => Number(params.get(name)));
  return a && b && b > a ? [a, b] : null;
}

export function arrange(rows: TideRow[], sort: string, text: string): Line[] {
  const words = text.toLowerCase().split(/\s+/);
  const families = new Map<string, TideRow[]>();
  for (const row of rows) {
    const hay =
      `${row.metric} ${row.title} ${row.state} ${row.attributes} ${row.owner && `owner=${row.owner}`}`.toLowerCase();
    if (words.every((w) => hay.includes(w)))
      families.set(row.metric, [...(families.get(row.metric) ?? []), row]);
  }
  const weight = (r: TideRow) =>
    sort === "open" ? r.open : sort === "newest" ? (r.newest ?? 0) : r.strongest;
  const inOrder = (a: TideRow, b: TideRow) =>
    sort === "name" ? a.title.localeCompare(b.title) : weight(b) - weight(a);
  const most = (list: TideRow[]) => Math.max(...list.map(weight));
  return [...families.entries()]
    .sort(([a, x], [b, y]) => (sort === "name" ? a.localeCompare(b) : most(y) - most(x)))
    .flatMap(([metric, list]) => [
      { kind: "family" as const, metric, rows: list },
      ...list.sort(inOrder).map((row) => ({ kind: "stream" as const, row })),
    ]);
}

function Strongest({
  findings,
  open,
  fresh,
  looked,
  badSides,
  caps,
  setCap,
}: {
  caps: Record<Cap, number>;
  setCap: (name: Cap, value: number) => void;
  findings: Finding[];
  open: number;
  fresh: number;
  looked: string | null;
  badSides: Map<number, string>;
}) {
  return (
    <section aria-label="Strongest open findings" className="strongest">
      <h2>
        {open ? plural(open, "open finding") : "No open findings"}
        <span className="soft small plain">
          {open === 0
            ? "every finding has a verdict"
            : looked
              ? `${fresh} new since you last looked, ${dayTime(Date.parse(looked), Intl.DateTimeFormat().resolvedOptions().timeZone)}`
              : ""}
        </span>
        {open > 0 && (
          <span className="soft small plain">
            the <CapWord name="most" label="strongest shown" {...{ caps, setCap }} /> strongest, at most{" "}
            <CapWord name="family" label="at most a family" {...{ caps, setCap }} /> a family and{" "}
            <CapWord name="stream" label="at most a stream" {...{ caps, setCap }} /> a stream
          </span>
        )}
        {open > 0 && (
          <Link to="/review" className="act plain">
            Review them
          </Link>
        )}
      </h2>
      <ol>
        {findings.map((f) => (
          <li key={f.id}>
            <Link to={linkTo(f)}>
              <Mark
                kind={f.kind}
                direction={f.direction}
                isBad={isBad(f, badSides.get(f.stream) ?? "both")}
              />
              <span className="figure">{figure(f.score, 1)} σ</span>
              <strong>{f.title}</strong>
              <span className="soft small">
                {f.metric}, {dayTime(f.start, f.zone)},{" "}
                {f.kind === "shift"
                  ? `step of ${figure(f.size)} ${f.unit}`
                  : duration((f.end - f.start) / 1000)}
              </span>
            </Link>
            <Taking finding={f} />
          </li>
        ))}
      </ol>
    </section>
  );
}

/** The workbench at a finding, with a week or so around it. */
export function linkTo(f: Finding): string {
  const margin = Math.max(3 * 86_400_000, f.end - f.start);
  return `/workbench/${f.stream}?from=${f.start - margin}&to=${f.end + margin}&finding=${f.id}`;
}

function CapWord({
  name,
  label,
  caps,
  setCap,
}: {
  name: Cap;
  label: string;
  caps: Record<Cap, number>;
  setCap: (name: Cap, value: number) => void;
}) {
  const choices = [...new Set([...CHOICES[name], caps[name]])].sort((a, b) => a - b);
  return (
    <select
      className="word"
      aria-label={label}
      value={caps[name]}
      onChange={(e) => setCap(name, Number(e.target.value))}
    >
      {choices.map((n) => (
        <option key={n} value={n}>
          {n}
        </option>
      ))}
    </select>
  );
}

/** A place within the shared axis, dragged to a span: what the drag covers becomes the span. */
function useBrush(span: Span, setSpan: (span: Span) => void) {
  const [from, setFrom] = useState<number | null>(null);
  const [to, setTo] = useState<number | null>(null);
  const at = (event: React.PointerEvent) => {
    const box = event.currentTarget.getBoundingClientRect();
    const share = Math.min(1, Math.max(0, (event.clientX - box.left) / (box.width || 1)));
    return span[0] + share * (span[1] - span[0]);
  };
  return {
    held: from !== null && to !== null ? ([Math.min(from, to), Math.max(from, to)] as Span) : null,
    handlers: {
      onPointerDown: (e: React.PointerEvent) => {
        e.currentTarget.setPointerCapture(e.pointerId);
        setFrom(at(e));
        setTo(at(e));
      },
      onPointerMove: (e: React.PointerEvent) => from !== null && setTo(at(e)),
      onPointerUp: (e: React.PointerEvent) => {
        const end = at(e);
        if (from !== null && Math.abs(end - from) > (span[1] - span[0]) / 100)
          setSpan([Math.min(from, end), Math.max(from, end)]);
        setFrom(null);
        setTo(null);
      },
    },
  };
}

function Rows({
  lines,
  span,
  whole,
  setSpan,
  zone,
}: {
  lines: Line[];
  span: Span;
  whole: Span;
  setSpan: (span: Span | null) => void;
  zone: string;
}) {
  const box = useRef<HTMLDivElement>(null);
  const navigate = useNavigate();
  const [chosen, setChosen] = useState(-1);
  const list = useVirtualizer({
    count: lines.length,
    getScrollElement: () => box.current,
    estimateSize: (i) => (lines[i]?.kind === "family" ? 34 : 24),
    overscan: 12,
  });
  const move = (by: number) => {
    let next = chosen + by;
    while (lines[next] && lines[next]?.kind !== "stream") next += by;
    if (!lines[next]) return;
    setChosen(next);
    list.scrollToIndex(next, { align: "auto" });
  };
  const brush = useBrush(span, setSpan);
  const zoom = (shift: number, factor: number) => {
    const long = Math.min((span[1] - span[0]) * factor, whole[1] - whole[0]);
    const centre = (span[0] + span[1]) / 2 + shift * (span[1] - span[0]);
    const start = Math.min(Math.max(centre - long / 2, whole[0]), whole[1] - long);
    setSpan(long >= whole[1] - whole[0] ? null : [start, start + long]);
  };
  useKeys({
    ArrowDown: () => move(1),
    ArrowUp: () => move(-1),
    ArrowLeft: () => zoom(-0.25, 1),
    ArrowRight: () => zoom(0.25, 1),
    "+": () => zoom(0, 0.6),
    "-": () => zoom(0, 1.7),
    "0": () => setSpan(null),
    Enter: () => {
      const line = lines[chosen];
      if (line?.kind === "stream") navigate(`/workbench/${line.row.id}`);
    },
  });
  const axis = ticks(span[0], span[1], zone, 9);
  const x = (ms: number) => `${((ms - span[0]) / (span[1] - span[0])) * 100}%`;
  return (
    <div className="tide-rows">
      <div className="tide-line tide-head" aria-hidden="true">
        <span>stream</span>
        <span className="axis brush" title="Drag to choose a span" {...brush.handlers}>
          {brush.held && (
            <b
              style={{
                left: x(brush.held[0]),
                width: `${((brush.held[1] - brush.held[0]) / (span[1] - span[0])) * 100}%`,
              }}
            />
          )}
          {axis.at.map((t) => (
            <i key={t} style={{ left: x(t) }}>
              {day(t, zone)}
            </i>
          ))}
        </span>
        <span className="right">last value</span>
        <span>state</span>
        <span className="right">open</span>
      </div>
      <div ref={box} className="tide-scroll">
        <div style={{ height: list.getTotalSize(), position: "relative" }}>
          {list.getVirtualItems().map((item) => {
            const line = lines[item.index];
            if (!line) return null;
            const place = {
              position: "absolute" as const,
              top: item.start,
              height: item.size,
              left: 0,
              right: 0,
            };
            return line.kind === "family" ? (
              <div key={`f${line.metric}`} style={place} className="tide-family">
                <h2>{line.metric}</h2>
                <span className="soft small">{line.rows[0]?.unit}</span>
                <span className="soft small">
                  {plural(line.rows.length, "stream")}
                  {line.rows.some((r) => r.state === "adrift") &&
                    ` · ${line.rows.filter((r) => r.state === "adrift").length} adrift`}
                </span>
              </div>
            ) : (
              <Row
                key={line.row.id}
                row={line.row}
                span={span}
                style={place}
                isChosen={item.index === chosen}
                openAt={(ms) => {
                  const near = 3 * 86_400_000;
                  navigate(
                    `/workbench/${line.row.id}?from=${Math.round(ms - near)}&to=${Math.round(ms + near)}`,
                  );
                }}
              />
            );
          })}
        </div>
      </div>
    </div>
  );
}

const SIGNS: Record<string, string> = { adrift: "above", silent: "shift-word", steady: "", learning: "soft" };

function Row({
  row,
  span,
  style,
  isChosen,
  openAt,
}: {
  openAt: (ms: number) => void;
  row: TideRow;
  span: [number, number];
  style: object;
  isChosen: boolean;
}) {
  return (
    <Link
      to={`/workbench/${row.id}`}
      className="tide-line tide-stream"
      style={style}
      aria-current={isChosen || undefined}
    >
      <span className="name">{row.title}</span>
      {/* biome-ignore lint/a11y/noStaticElementInteractions: the row itself is the link; a click here only adds the place */}
      {/* biome-ignore lint/a11y/useKeyWithClickEvents: by keyboard, n and p step through findings in the workbench */}
      <span
        onClick={(e) => {
          if (e.metaKey || e.ctrlKey || e.shiftKey) return;
          const box = e.currentTarget.getBoundingClientRect();
          e.preventDefault();
          openAt(span[0] + ((e.clientX - box.left) / (box.width || 1)) * (span[1] - span[0]));
        }}
      >
        {row.ribbon_from !== null && row.ribbon_to !== null ? (
          <Ribbon
            ribbon={row.ribbon}
            from={row.ribbon_from}
            to={row.ribbon_to}
            span={span}
            marks={row.marks}
            judgedUntil={row.judged_until}
            label={`deviation over time, strongest open ${figure(row.strongest, 1)} sigmas`}
          />
        ) : (
          <span className="soft small">not scanned yet</span>
        )}
      </span>
      <span className="figure right" title={row.last !== null ? dayTime(row.last, row.zone) : ""}>
        {figure(row.last_value)}
      </span>
      <span className={SIGNS[row.state]}>{row.state}</span>
      <span className="figure right">{row.open || ""}</span>
    </Link>
  );
}

function Legend() {
  return (
    <footer className="tide-legend soft small">
      <span>Colour and height: size of the deviation from 3.8 σ on.</span>
      <span>
        <Mark kind="outlier" direction="above" /> above
      </span>
      <span>
        <Mark kind="outlier" direction="below" /> below
      </span>
      <span>
        <Mark kind="shift" direction="up" /> shift
      </span>
      <span>filled: the bad side</span>
      <span style={{ marginLeft: "auto" }}>
        <kbd>↑</kbd> <kbd>↓</kbd> row · <kbd>+</kbd> <kbd>−</kbd> zoom · <kbd>Enter</kbd> open · <kbd>?</kbd>{" "}
        keys
      </span>
    </footer>
  );
}

function NoStreams() {
  return (
    <div className="padded empty">
      <h1>No streams yet</h1>
      <p>
        Bring in a file with a time column and a value column. You see what was guessed before anything is
        stored.
      </p>
      <Link to="/intake" className="primary" style={{ textDecoration: "none", display: "inline-block" }}>
        Bring in a file
      </Link>
    </div>
  );
}
