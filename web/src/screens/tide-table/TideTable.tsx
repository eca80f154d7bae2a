import { useQuery } from "@tanstack/react-query";
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
import { day, dayTime, duration, figure, plural, spanWords, utc, zoneName } from "../../parts/words";
import "./tide-table.css";

type Line = { kind: "family"; metric: string; rows: TideRow[] } | { kind: "stream"; row: TideRow };

export default function TideTable() {
  const [params, setParams] = useSearchParams();
  const tide = useQuery({ queryKey: ["tide"], queryFn: () => get(api.GET("/api/v1/tide")) });
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
  const span: [number, number] = [span_from ?? 0, span_to ?? 1];
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
      </TopBar>
      <Strongest
        findings={tide.data.strongest}
        open={tide.data.open}
        fresh={tide.data.new}
        looked={tide.data.last_looked ?? null}
        badSides={badSides}
      />
      <div className="tide-tools">
        <label>
          Sorted by{" "}
          <select className="word" value={sort} onChange={(e) => set("sort", e.target.value)}>
            <option value="strongest">strongest</option>
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
      <Rows lines={lines} span={span} zone={zone} />
      <Legend />
    </div>
  );
}

export function arrange(rows: TideRow[], sort: string, text: string): Line[] {
  const words = text.toLowerCase().split(/\s+/);
  const families = new Map<string, TideRow[]>();
  for (const row of rows) {
    const hay = `${row.metric} ${row.title} ${row.state}`.toLowerCase();
    if (words.every((w) => hay.includes(w)))
      families.set(row.metric, [...(families.get(row.metric) ?? []), row]);
  }
  const weight = (r: TideRow) => (sort === "open" ? r.open : r.strongest);
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
}: {
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
              : "the strongest, at most 3 a family and 1 a stream"}
        </span>
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

function Rows({ lines, span, zone }: { lines: Line[]; span: [number, number]; zone: string }) {
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
  useKeys({
    ArrowDown: () => move(1),
    ArrowUp: () => move(-1),
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
        <span className="axis">
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
}: {
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
      <span>
        {row.ribbon_from !== null && row.ribbon_to !== null ? (
          <Ribbon
            ribbon={row.ribbon}
            from={row.ribbon_from}
            to={row.ribbon_to}
            span={span}
            marks={row.marks}
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
        <kbd>↑</kbd> <kbd>↓</kbd> row · <kbd>Enter</kbd> open · <kbd>?</kbd> keys
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
