import { Box, Group, UnstyledButton } from "@mantine/core";
import { useInterval } from "@mantine/hooks";
import { useQuery } from "@tanstack/react-query";
import { type CSSProperties, useRef, useState } from "react";
import { Trouble } from "../../parts/ask";
import { clock, dayOf, duration, zoneName } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import boardsCss from "./boards.module.css";
import { PaneBody } from "./PaneBody";
import { KINDS, type Pane, type Shown } from "./words";

/** How often a pane is read; the server reads it no oftener than every five seconds, however many look on. */
const EVERY_MS = 15_000;
/** Older than this it is late; a forecast takes a fit, and is made anew every five minutes. */
const LATE_S = 60;
const LATE_FORECAST_S = 600;
const ROW_PX = 44;

interface Props {
  name: string;
  panes: Pane[];
  /** Where a pane's data come from. */
  read: (place: number) => Promise<Shown>;
  keyOf: (place: number) => unknown[];
  isShared?: boolean;
  /** While it is arranged: what moves a pane. */
  arrange?: {
    move: (place: number, by: { x?: number; y?: number; w?: number; h?: number }) => void;
    remove: (place: number) => void;
  };
}

/** The panes of a board on their grid, each live, with the time and how old each pane is. */
export function Wall({ name, panes, read, keyOf, isShared = false, arrange }: Props) {
  const grid = useRef<HTMLDivElement>(null);
  return (
    <section
      className={boardsCss.wall}
      aria-label={`Board ${name}`}
      data-arranged={arrange !== undefined || undefined}
    >
      <Group component="header" align="baseline" justify="space-between" gap={12} wrap="nowrap">
        <h2>{name}</h2>
        <Clock />
      </Group>
      <div className={boardsCss.wallGrid} ref={grid}>
        {panes.map((pane, place) => (
          <OnePane
            // biome-ignore lint/suspicious/noArrayIndexKey: a pane is named by its place
            key={place}
            {...{ pane, place, isShared, arrange }}
            read={() => read(place)}
            queryKey={keyOf(place)}
            fieldWidth={() => (grid.current?.clientWidth ?? 1200) / 12}
          />
        ))}
      </div>
      {panes.length === 0 && <p className="soft">This board has no pane yet.</p>}
    </section>
  );
}

/** The time, by the second; only what shows it is drawn again. */
function useNow(): number {
  const [now, setNow] = useState(Date.now);
  useInterval(() => setNow(Date.now()), 1_000, { autoInvoke: true });
  return now;
}

function Clock() {
  const now = useNow();
  return (
    <span className={boardsCss.wallClock}>
      {dayOf(now, fleetZone())} <strong className="figure">{clock(now, fleetZone())}</strong>{" "}
      {zoneName(now, fleetZone())}
    </span>
  );
}

/** How old what a pane shows is, and whether that is too old. */
function Age({ of, isLateAfter }: { of: number; isLateAfter: number }) {
  const age = Math.max(0, (useNow() - of) / 1_000);
  const isLate = age > isLateAfter;
  return (
    <span className={isLate ? "late small" : "soft small"}>
      {duration(Math.round(age))} old{isLate ? ", late" : ""}
    </span>
  );
}

function OnePane({
  pane,
  place,
  read,
  queryKey,
  isShared,
  arrange,
  fieldWidth,
}: Pick<Props, "arrange"> & {
  pane: Pane;
  place: number;
  read: () => Promise<Shown>;
  queryKey: unknown[];
  isShared: boolean;
  fieldWidth: () => number;
}) {
  const shown = useQuery({ queryKey, queryFn: read, refetchInterval: EVERY_MS });
  const kind = KINDS.find(([k]) => k === pane.kind);
  const title = pane.title || kind?.[1] || pane.kind;
  const spot = { "--x": pane.x + 1, "--w": pane.w, "--y": pane.y + 1, "--h": pane.h } as CSSProperties;
  return (
    <section className={boardsCss.wallPane} aria-label={title} style={spot}>
      <Group
        component="header"
        align="baseline"
        justify="space-between"
        gap={12}
        pb={2}
        wrap="nowrap"
        className="under"
      >
        {arrange ? (
          <Handle title={title} fieldWidth={fieldWidth} move={(by) => arrange.move(place, by)} />
        ) : (
          <h3>{title}</h3>
        )}
        {arrange ? (
          <UnstyledButton className="act small" onClick={() => arrange.remove(place)}>
            Take away
          </UnstyledButton>
        ) : (
          shown.data && (
            <Age of={shown.data.at} isLateAfter={pane.kind === "forecast" ? LATE_FORECAST_S : LATE_S} />
          )
        )}
      </Group>
      <Box flex={1} mih={0} pt={6} className="scrolls">
        {shown.isError && !shown.data && <Trouble error={shown.error} retry={() => shown.refetch()} />}
        {shown.data && <PaneBody shown={shown.data} isShared={isShared} />}
      </Box>
    </section>
  );
}

const STEPS: Record<string, [number, number]> = {
  ArrowLeft: [-1, 0],
  ArrowRight: [1, 0],
  ArrowUp: [0, -1],
  ArrowDown: [0, 1],
};

/** What a pane is taken by: dragged, or moved with arrows and made larger or smaller with Shift and arrows. */
function Handle({
  title,
  fieldWidth,
  move,
}: {
  title: string;
  fieldWidth: () => number;
  move: (by: { x?: number; y?: number; w?: number; h?: number }) => void;
}) {
  const start = useRef<[number, number] | null>(null);
  return (
    <UnstyledButton
      ff="var(--serif)"
      fs="italic"
      fz={17}
      className="wall-handle drags"
      aria-label={`Move ${title}: arrows, with Shift its size`}
      onKeyDown={(event) => {
        const step = STEPS[event.key];
        if (!step) return;
        event.preventDefault();
        const [x, y] = step;
        move(event.shiftKey ? { w: x, h: y } : { x, y });
      }}
      onPointerDown={(event) => {
        start.current = [event.clientX, event.clientY];
        event.currentTarget.setPointerCapture(event.pointerId);
      }}
      onPointerMove={(event) => {
        if (!start.current) return;
        const x = Math.round((event.clientX - start.current[0]) / fieldWidth());
        const y = Math.round((event.clientY - start.current[1]) / ROW_PX);
        if (!x && !y) return;
        start.current = [start.current[0] + x * fieldWidth(), start.current[1] + y * ROW_PX];
        move({ x, y });
      }}
      onPointerUp={() => {
        start.current = null;
      }}
    >
      <span aria-hidden="true">⠿</span> {title}
    </UnstyledButton>
  );
}
