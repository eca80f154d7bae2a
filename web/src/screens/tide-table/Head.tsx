import { Box } from "@mantine/core";
import { useElementSize } from "@mantine/hooks";
import type { KeyboardEvent, PointerEvent } from "react";
import { ticks } from "../../charts/ticks";
import { day } from "../../parts/words";
import { COLUMNS, type Span } from "./caps";
import tideTableCss from "./tide-table.module.css";
import { useBrush } from "./useBrush";
import type { Widths } from "./useWidths";

/** Room that a date takes on the axis, in pixels. */
const DATE = 92;
const CUT = 56;
const KEY_STEP = 8;

/** The names of the columns and the common axis of time, on which a drag chooses a span. */
export function Head({
  span,
  setSpan,
  zone,
  columns,
  widths,
}: {
  span: Span;
  setSpan: (span: Span | null) => void;
  zone: string;
  columns: string[];
  widths: Widths;
}) {
  const { ref, width } = useElementSize();
  const brush = useBrush(span, setSpan);
  const axis = ticks(span[0], span[1], zone, Math.max(1, Math.floor((width || 6 * DATE) / DATE)));
  const x = (ms: number) => ((ms - span[0]) / (span[1] - span[0])) * 100;
  // A date at the very end would be cut.
  const last = 100 * (1 - CUT / (width || 6 * DATE));
  return (
    <div
      className={`${tideTableCss.tideLine} ${tideTableCss.tideHead} under soft small`}
      style={{ gridTemplateColumns: widths.grid }}
      role="row"
    >
      <span role="columnheader">
        stream
        <Edge column="name" words="stream" widths={widths} />
      </span>
      <span role="columnheader" aria-label="deviation over time">
        <Box
          ref={ref}
          component="span"
          pos="relative"
          display="block"
          h={20}
          className="axis clips drags"
          title="Drag to choose a span"
          {...brush.handlers}
        >
          {brush.drawn && (
            <b
              className="window"
              style={{
                left: `${x(brush.drawn[0])}%`,
                width: `${x(brush.drawn[1]) - x(brush.drawn[0])}%`,
              }}
            />
          )}
          {axis.at
            .filter((t) => x(t) <= last)
            .map((t) => (
              <i key={t} className="tick small" style={{ left: `${x(t)}%` }}>
                {day(t, zone)}
              </i>
            ))}
        </Box>
      </span>
      {columns.map((c) => (
        <span key={c} role="columnheader" className={c === "state" || c === "owner" ? "" : "right"}>
          {COLUMNS[c]}
          <Edge column={c} words={COLUMNS[c] ?? c} widths={widths} isLeft />
        </span>
      ))}
    </div>
  );
}

/** The edge of a column: a drag or arrow keys make it wider. */
function Edge({
  column,
  words,
  widths,
  isLeft = false,
}: {
  column: string;
  words: string;
  widths: Widths;
  /** Columns right of the ribbon grow to the left. */
  isLeft?: boolean;
}) {
  const now = widths.widthOf(column);
  const sign = isLeft ? -1 : 1;
  const press = (e: KeyboardEvent) => {
    const by = { ArrowLeft: -KEY_STEP, ArrowRight: KEY_STEP }[e.key];
    if (by === undefined) return;
    e.preventDefault();
    e.stopPropagation();
    widths.setWidth(column, now + sign * by);
  };
  const drag = (e: PointerEvent) => {
    if (e.buttons) widths.setWidth(column, now + sign * e.movementX);
  };
  return (
    <span
      role="separator"
      aria-orientation="vertical"
      aria-label={`Width of ${words}`}
      aria-valuenow={now}
      aria-valuemin={widths.least}
      aria-valuemax={widths.most}
      tabIndex={0}
      className={`${tideTableCss.columnEdge} drags`}
      data-left={isLeft || undefined}
      onKeyDown={press}
      onPointerDown={(e) => e.currentTarget.setPointerCapture(e.pointerId)}
      onPointerMove={drag}
    />
  );
}
