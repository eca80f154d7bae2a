import { memo, type PointerEvent } from "react";
import { Link } from "react-router";
import type { TideRow } from "../../api/client";
import { Ribbon } from "../../charts/Ribbon";
import { dayTime, duration, figure } from "../../parts/words";
import { useAhead } from "../workbench/ahead";
import type { Span } from "./caps";
import tideTableCss from "./tide-table.module.css";

const SIGNS: Record<string, string> = { adrift: "above", silent: "shift-word", steady: "", learning: "soft" };

const NONE = new Int8Array();

/** Where on a ribbon the pointer is. */
export interface Reading {
  row: TideRow;
  bins: Int8Array;
  moment: number;
  left: number;
  top: number;
}

interface Props {
  row: TideRow;
  /** Its ribbon, once it has come. */
  bins?: Int8Array | undefined;
  span: Span;
  top: number;
  height: number;
  grid: string;
  columns: string[];
  /** Decimal places of the last values of its family. */
  digits?: number;
  isChosen: boolean;
  openAt: (row: TideRow, ms: number) => void;
  read: (reading: Reading | null) => void;
}

/** One stream; drawn anew only when something of it changes, not with every row that scrolls into sight. */
export const Row = memo(function Row(props: Props) {
  const { row, bins = NONE, span, top, height, grid, isChosen, columns, digits, openAt, read } = props;
  const momentAt = (e: { currentTarget: Element; clientX: number }) => {
    const box = e.currentTarget.getBoundingClientRect();
    return span[0] + ((e.clientX - box.left) / (box.width || 1)) * (span[1] - span[0]);
  };
  const move = (e: PointerEvent) =>
    read({
      row,
      bins,
      moment: momentAt(e),
      left: e.clientX,
      top: e.currentTarget.getBoundingClientRect().bottom,
    });
  const ahead = useAhead(row.id);
  return (
    <div
      {...ahead}
      className={`${tideTableCss.tideLine} ${tideTableCss.tideRow}`}
      role="row"
      style={{ position: "absolute", top, height, left: 0, right: 0, gridTemplateColumns: grid }}
    >
      <span role="rowheader" className="cut">
        <Link
          to={`/workbench/${row.id}`}
          className={tideTableCss.tideStream}
          aria-current={isChosen || undefined}
        >
          {row.title}
        </Link>
      </span>
      {/* biome-ignore lint/a11y/useKeyWithClickEvents: the link of the row does the same by keyboard, without the moment */}
      <span
        role="cell"
        className={`${tideTableCss.tideRibbon} front`}
        onClick={(e) => openAt(row, momentAt(e))}
        onPointerMove={move}
        onPointerLeave={() => read(null)}
      >
        {row.ribbon_from !== null && row.ribbon_to !== null ? (
          <Ribbon
            ribbon={bins}
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
        <Cell key={c} column={c} row={row} digits={digits} />
      ))}
    </div>
  );
});

function Cell({ column, row, digits }: { column: string; row: TideRow; digits?: number }) {
  const { words, look = "figure right" } = cellOf(column, row, digits);
  return (
    <span
      role="cell"
      className={look}
      title={column === "value" && row.last !== null ? dayTime(row.last, row.zone) : undefined}
    >
      {words}
    </span>
  );
}

function cellOf(column: string, row: TideRow, digits?: number): { words: string | number; look?: string } {
  switch (column) {
    case "value":
      return { words: figure(row.last_value, digits) };
    case "state":
      return { words: row.state, look: SIGNS[row.state] ?? "" };
    case "open":
      return { words: row.open || "" };
    case "strongest":
      return { words: row.open ? figure(row.strongest, 1) : "" };
    case "newest":
      return { words: row.newest === null ? "" : dayTime(row.newest, row.zone) };
    case "owner":
      return { words: row.owner, look: "cut" };
    default:
      return { words: row.cadence || duration(row.step_s) };
  }
}
