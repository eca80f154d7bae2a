import { Box, Group, Stack, VisuallyHidden } from "@mantine/core";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useCallback, useMemo, useRef, useState } from "react";
import { Link, useNavigate } from "react-router";
import type { TideRow } from "../../api/client";
import { scoreAt } from "../../charts/ribbons";
import { useKeys } from "../../keys/useKeys";
import partsCss from "../../parts/parts.module.css";
import { dayTime, digitsFor, figure, plural } from "../../parts/words";
import { AddToBoard } from "../boards/AddToBoard";
import type { Line, Span } from "./caps";
import { Head } from "./Head";
import { type Reading, Row } from "./Row";
import tideTableCss from "./tide-table.module.css";
import { useRibbons } from "./useRibbons";
import { useWidths } from "./useWidths";

const [FAMILY, STREAM] = [34, 24];
const AROUND = 3 * 86_400_000;

interface Props {
  columns: string[];
  lines: Line[];
  span: Span;
  whole: Span;
  setSpan: (span: Span | null) => void;
  zone: string;
}

/** Family heads and stream rows on one shared axis, only those in sight in the page. */
export function Rows({ lines, span, whole, setSpan, zone, columns }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const navigate = useNavigate();
  const [chosen, setChosen] = useState(-1);
  const [reading, setReading] = useState<Reading | null>(null);
  const widths = useWidths(columns);
  const list = useVirtualizer({
    count: lines.length,
    getScrollElement: () => box.current,
    estimateSize: (i) => (lines[i]?.kind === "family" ? FAMILY : STREAM),
    overscan: 12,
  });
  const seen = list.getVirtualItems();
  const ribbons = useRibbons(lines, seen[0]?.index ?? 0, seen.at(-1)?.index ?? -1);
  const digits = useMemo(
    () =>
      new Map(
        lines.flatMap((l) =>
          l.kind === "family" ? [[l.metric, digitsFor(l.rows.map((r) => r.last_value))] as const] : [],
        ),
      ),
    [lines],
  );
  const move = (by: number) => {
    let next = chosen + by;
    while (lines[next] && lines[next]?.kind !== "stream") next += by;
    if (!lines[next]) return;
    setChosen(next);
    list.scrollToIndex(next, { align: "auto" });
  };
  const zoom = (shift: number, factor: number) => {
    const long = Math.min((span[1] - span[0]) * factor, whole[1] - whole[0]);
    const centre = (span[0] + span[1]) / 2 + shift * (span[1] - span[0]);
    const start = Math.min(Math.max(centre - long / 2, whole[0]), whole[1] - long);
    setSpan(long >= whole[1] - whole[0] ? null : [start, start + long]);
  };
  const current = lines[chosen];
  useKeys({
    ArrowDown: () => move(1),
    ArrowUp: () => move(-1),
    ArrowLeft: () => zoom(-0.25, 1),
    ArrowRight: () => zoom(0.25, 1),
    "+": () => zoom(0, 0.6),
    "-": () => zoom(0, 1.7),
    "0": () => setSpan(null),
    Enter: () => current?.kind === "stream" && navigate(`/workbench/${current.row.id}`),
  });
  const openAt = useCallback(
    (row: TideRow, ms: number) =>
      navigate(`/workbench/${row.id}?from=${Math.round(ms - AROUND)}&to=${Math.round(ms + AROUND)}`),
    [navigate],
  );
  const table = (
    // A table by its roles: of a thousand rows only those in sight are there.
    <Stack
      gap={0}
      flex={1}
      mih={0}
      pos="relative"
      role="table"
      aria-label="Streams"
      aria-rowcount={lines.length + 1}
    >
      <Head {...{ span, setSpan, zone, columns, widths }} />
      <Box ref={box} flex={1} className={tideTableCss.tideScroll} role="rowgroup">
        <div style={{ height: list.getTotalSize(), position: "relative" }} role="presentation">
          {seen.map((item) => {
            const line = lines[item.index];
            if (!line) return null;
            return line.kind === "family" ? (
              <Family key={`f${line.metric}`} line={line} top={item.start} height={item.size} />
            ) : (
              <Row
                key={line.row.id}
                row={line.row}
                bins={ribbons.get(line.row.id)}
                span={span}
                top={item.start}
                height={item.size}
                grid={widths.grid}
                columns={columns}
                digits={digits.get(line.row.metric)}
                isChosen={item.index === chosen}
                openAt={openAt}
                read={setReading}
              />
            );
          })}
        </div>
      </Box>
    </Stack>
  );
  return (
    <>
      {table}
      {reading && <Readout reading={reading} />}
      <VisuallyHidden component="p" role="status">
        {current?.kind === "stream" ? rowWords(current.row) : ""}
      </VisuallyHidden>
    </>
  );
}

function Family({
  line,
  top,
  height,
}: {
  line: Extract<Line, { kind: "family" }>;
  top: number;
  height: number;
}) {
  const adrift = line.rows.filter((r) => r.state === "adrift").length;
  return (
    <Group
      gap={16}
      align="baseline"
      pt={8}
      wrap="nowrap"
      className="tide-family under"
      role="row"
      style={{ position: "absolute", top, height, left: 0, right: 0 }}
    >
      <h2 role="rowheader">{line.metric}</h2>
      <span className="soft small" role="cell">
        {line.rows[0]?.unit && `${line.rows[0].unit} · `}
        {plural(line.rows.length, "stream")}
        {adrift > 0 && ` · ${adrift} adrift`} · <Link to={`/look?metric=${line.metric}`}>the day</Link>
      </span>
      <span className="small" role="cell">
        <AddToBoard pane={{ kind: "ribbons", metric: line.metric }} />
      </span>
    </Group>
  );
}

/** What a ribbon says under the pointer. */
function Readout({ reading: { row, bins, moment, left, top } }: { reading: Reading }) {
  const bin = scoreAt(row, bins, moment);
  if (!bin) return null;
  return (
    <Box
      pos="absolute"
      bg="var(--panel)"
      p="5px 9px"
      fz={12.5}
      miw={176}
      bd="1px solid var(--line)"
      className={`${partsCss.tip} front tide-tip`}
      style={{ left: Math.min(left + 12, window.innerWidth - 230), top: top + 4 }}
    >
      <strong>{row.title}</strong>
      <div>{dayTime(bin.start, row.zone)}</div>
      <div className="figure">
        {bin.score === null
          ? "not judged"
          : `${figure(Math.abs(bin.score), 1)} σ ${bin.score < 0 ? "below" : "above"}`}
      </div>
    </Box>
  );
}

/** A row in a sentence, for whoever walks through them by key. */
function rowWords(row: TideRow): string {
  const open = row.open
    ? `${plural(row.open, "open finding")}, up to ${figure(row.strongest, 1)} sigmas`
    : "no open finding";
  return `${row.title}, ${row.metric}: ${row.state}, ${open}.`;
}
