import { useVirtualizer } from "@tanstack/react-virtual";
import { memo, useCallback, useRef, useState } from "react";
import { Link, useNavigate } from "react-router";
import type { TideRow } from "../../api/client";
import { Ribbon } from "../../charts/Ribbon";
import { ticks } from "../../charts/ticks";
import { useKeys } from "../../keys/useKeys";
import { day, dayTime, duration, figure, plural } from "../../parts/words";
import { COLUMNS, type Line, type Span } from "./caps";

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

/** Family heads and stream rows on one shared axis, only those in sight in the page. */
export function Rows({
  lines,
  span,
  whole,
  setSpan,
  zone,
  columns,
}: {
  columns: string[];
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
  const openAt = useCallback(
    (row: TideRow, ms: number) => {
      const near = 3 * 86_400_000;
      navigate(`/workbench/${row.id}?from=${Math.round(ms - near)}&to=${Math.round(ms + near)}`);
    },
    [navigate],
  );
  const axis = ticks(span[0], span[1], zone, 9);
  const x = (ms: number) => `${((ms - span[0]) / (span[1] - span[0])) * 100}%`;
  const grid = {
    gridTemplateColumns: ["216px", "1fr", ...columns.map((c) => WIDTHS[c] ?? "90px")].join(" "),
  };
  return (
    <div className="tide-rows">
      <div className="tide-line tide-head" style={grid} aria-hidden="true">
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
        {columns.map((c) => (
          <span key={c} className={c === "state" || c === "owner" ? "" : "right"}>
            {COLUMNS[c]}
          </span>
        ))}
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
                top={item.start}
                height={item.size}
                grid={grid.gridTemplateColumns}
                columns={columns}
                isChosen={item.index === chosen}
                openAt={openAt}
              />
            );
          })}
        </div>
      </div>
    </div>
  );
}

const SIGNS: Record<string, string> = { adrift: "above", silent: "shift-word", steady: "", learning: "soft" };

/** One stream; drawn anew only when something of it changes, not with every row that scrolls into sight. */
const Row = memo(function Row({
  row,
  span,
  top,
  height,
  grid,
  isChosen,
  columns,
  openAt,
}: {
  columns: string[];
  openAt: (row: TideRow, ms: number) => void;
  row: TideRow;
  span: [number, number];
  top: number;
  height: number;
  grid: string;
  isChosen: boolean;
}) {
  return (
    <Link
      to={`/workbench/${row.id}`}
      className="tide-line tide-stream"
      style={{ position: "absolute", top, height, left: 0, right: 0, gridTemplateColumns: grid }}
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
          openAt(row, span[0] + ((e.clientX - box.left) / (box.width || 1)) * (span[1] - span[0]));
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
      {columns.map((c) => (
        <Cell key={c} column={c} row={row} />
      ))}
    </Link>
  );
});

/** How wide a column is: the ribbon takes what is left. */
const WIDTHS: Record<string, string> = {
  value: "88px",
  state: "74px",
  open: "52px",
  strongest: "96px",
  newest: "124px",
  owner: "104px",
  cadence: "70px",
};

function Cell({ column, row }: { column: string; row: TideRow }) {
  switch (column) {
    case "value":
      return (
        <span className="figure right" title={row.last !== null ? dayTime(row.last, row.zone) : ""}>
          {figure(row.last_value)}
        </span>
      );
    case "state":
      return <span className={SIGNS[row.state]}>{row.state}</span>;
    case "open":
      return <span className="figure right">{row.open || ""}</span>;
    case "strongest":
      return <span className="figure right">{row.open ? figure(row.strongest, 1) : ""}</span>;
    case "newest":
      return <span className="figure right">{row.newest === null ? "" : dayTime(row.newest, row.zone)}</span>;
    case "owner":
      return <span className="name">{row.owner}</span>;
    default:
      return <span className="figure right">{row.cadence || duration(row.step_s)}</span>;
  }
}
