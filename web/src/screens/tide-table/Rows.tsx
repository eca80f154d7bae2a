import { Box, Group, Stack, VisuallyHidden } from "@mantine/core";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useCallback, useRef, useState } from "react";
import { Link, useNavigate } from "react-router";
import type { TideRow } from "../../api/client";
import { scoreAt } from "../../charts/ribbons";
import { useKeys } from "../../keys/useKeys";
import partsCss from "../../parts/parts.module.css";
import { dayTime, figure, plural } from "../../parts/words";
import { AddToBoard } from "../boards/AddToBoard";
import type { Family as FamilyFacts, Line, Span, Way } from "./caps";
import { Head } from "./Head";
import { type Reading, Row } from "./Row";
import tideTableCss from "./tide-table.module.css";
import { useWidths } from "./useWidths";
import { useWindow } from "./useWindow";

const [FAMILY, STREAM] = [34, 24];
const AROUND = 3 * 86_400_000;

interface Props {
  columns: string[];
  lines: Line[];
  way: Way;
  span: Span;
  whole: Span;
  setSpan: (span: Span | null) => void;
  zone: string;
}

/** Family heads and stream rows on one shared axis, only those in sight in the page. */
export function Rows({ lines, way, span, whole, setSpan, zone, columns }: Props) {
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
  const places = seen.flatMap(({ index }) => {
    const line = lines[index];
    return line?.kind === "stream" ? [line.at] : [];
  });
  const known = useWindow(way, places[0] ?? 0, places.at(-1) ?? -1);
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
  const line = lines[chosen];
  const current = line?.kind === "stream" ? known.get(line.at)?.row : undefined;
  useKeys({
    ArrowDown: () => move(1),
    ArrowUp: () => move(-1),
    ArrowLeft: () => zoom(-0.25, 1),
    ArrowRight: () => zoom(0.25, 1),
    "+": () => zoom(0, 0.6),
    "-": () => zoom(0, 1.7),
    "0": () => setSpan(null),
    Enter: () => current && navigate(`/workbench/${current.id}`),
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
      {lines.length === 0 && (
        <p className="soft" role="status">
          No stream has all these words.
        </p>
      )}
      <Box ref={box} flex={1} className={tideTableCss.tideScroll} role="rowgroup">
        <div style={{ height: list.getTotalSize(), position: "relative" }} role="presentation">
          {seen.map((item) => {
            const line = lines[item.index];
            if (!line) return null;
            if (line.kind === "family")
              return (
                <Family
                  key={`f${line.family.metric}`}
                  family={line.family}
                  top={item.start}
                  height={item.size}
                />
              );
            const own = known.get(line.at);
            if (!own) return <Coming key={`n${line.at}`} top={item.start} height={item.size} />;
            return (
              <Row
                key={own.row.id}
                row={own.row}
                bins={own.bins}
                span={span}
                top={item.start}
                height={item.size}
                grid={widths.grid}
                columns={columns}
                digits={line.family.digits ?? undefined}
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
        {current ? rowWords(current) : ""}
      </VisuallyHidden>
    </>
  );
}

/** A row that is still being read. */
function Coming({ top, height }: { top: number; height: number }) {
  return (
    <div
      role="row"
      className="soft small"
      style={{ position: "absolute", top, height, left: 0, right: 0 }}
      aria-busy="true"
    >
      <span role="cell">reading …</span>
    </div>
  );
}

function Family({ family, top, height }: { family: FamilyFacts; top: number; height: number }) {
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
      <h2 role="rowheader">{family.metric}</h2>
      <span className="soft small" role="cell">
        {family.unit && `${family.unit} · `}
        {plural(family.streams, "stream")}
        {family.adrift > 0 && ` · ${figure(family.adrift)} adrift`} ·{" "}
        <Link to={`/look?metric=${family.metric}`}>the day</Link>
      </span>
      <span className="small" role="cell">
        <AddToBoard pane={{ kind: "ribbons", metric: family.metric }} />
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
