import { Box, Button, Table, UnstyledButton } from "@mantine/core";
import {
  type ColumnDef,
  flexRender,
  getCoreRowModel,
  getSortedRowModel,
  type SortingState,
  useReactTable,
} from "@tanstack/react-table";
import { useState } from "react";
import { Link } from "react-router";
import { SelectField } from "../../parts/Field";
import { Whisker } from "../../parts/marks";
import { duration, figure, plural, ratio } from "../../parts/words";
import type { Card, Cut } from "./figures";

const BY = {
  by_stream: "stream",
  by_family: "family",
  by_cause: "cause",
} as const;
type By = keyof typeof BY;

const SHOWN = 12;
/** What first stands on top: the most false findings, or by cause, where none can be false, the most missed. */
const FIRST: Record<By, SortingState> = {
  by_stream: [{ id: "fp", desc: true }],
  by_family: [{ id: "fp", desc: true }],
  by_cause: [{ id: "missed", desc: true }],
};

/** A column of figures; what has none stands last, either way. */
function column(
  id: string,
  header: string,
  of: (c: Cut) => number | null | undefined,
  cell: (c: Cut) => React.ReactNode,
): ColumnDef<Cut> {
  return {
    id,
    header,
    accessorFn: (c) => of(c) ?? undefined,
    cell: ({ row }) => cell(row.original),
    sortUndefined: "last",
  };
}

function columnsOf(by: By, scan: number | null): ColumnDef<Cut>[] {
  const all: ColumnDef<Cut>[] = [
    {
      id: "name",
      header: BY[by],
      accessorKey: "name",
      cell: ({ row: { original: c } }) =>
        c.stream !== undefined && scan !== null ? (
          <Link to={`/workbench/${c.stream}?scan=${scan}`}>{c.name}</Link>
        ) : (
          c.name || "no cause noted"
        ),
    },
    column(
      "fp",
      "false",
      (c) => c.fp_findings,
      (c) => figure(c.fp_findings),
    ),
    column(
      "tp",
      "real",
      (c) => c.tp_findings,
      (c) => figure(c.tp_findings),
    ),
    column(
      "precision",
      "precision",
      (c) => c.precision,
      (c) => <Share ci={c.precision_ci} value={c.precision} />,
    ),
    column(
      "missed",
      "missed",
      (c) => c.fn_labels,
      (c) => figure(c.fn_labels),
    ),
    column(
      "found",
      "found",
      (c) => c.tp_labels,
      (c) => figure(c.tp_labels),
    ),
    column(
      "recall",
      "recall",
      (c) => c.recall,
      (c) => <Share ci={c.recall_ci} value={c.recall} />,
    ),
    column(
      "delay",
      "median delay",
      (c) => c.delay_s,
      (c) => duration(c.delay_s),
    ),
    column(
      "rate",
      "false a week",
      (c) => c.false_per_week,
      (c) => figure(c.false_per_week, 2),
    ),
    column(
      "unjudged",
      "unjudged",
      (c) => c.unjudged,
      (c) => figure(c.unjudged),
    ),
  ];
  // A rate is of a stream's own weeks; a cause is of incidents, and so has no false findings.
  const left: string[] = by === "by_stream" ? [] : by === "by_family" ? ["rate"] : ["rate", ...OF_FINDINGS];
  return all.filter((c) => !left.includes(c.id ?? ""));
}
const OF_FINDINGS = ["fp", "precision", "unjudged"];

function Share({ ci, value }: { ci: (number | null)[] | null; value: number | null }) {
  return (
    <>
      <Whisker value={value} low={ci?.[0] ?? null} high={ci?.[1] ?? null} /> {ratio(value)}
    </>
  );
}

/** The same counts by stream, family or cause; the heads sort. */
export function Cuts({ card, scan }: { card: Card; scan: number | null }) {
  const [by, setBy] = useState<By>("by_stream");
  const [sorting, setSorting] = useState(FIRST.by_stream);
  const [isAll, setAll] = useState(false);
  const table = useReactTable({
    data: card[by],
    columns: columnsOf(by, scan),
    state: { sorting },
    onSortingChange: setSorting,
    enableSortingRemoval: false,
    sortDescFirst: true,
    getCoreRowModel: getCoreRowModel(),
    getSortedRowModel: getSortedRowModel(),
  });
  const rows = table.getSortedRowModel().rows;
  const look = (id: string) => (id === "name" ? undefined : "figure");
  return (
    <Box aria-label="Cut finer" component="section" pt={6} mb={12} className="lined">
      <h2>
        By{" "}
        <SelectField
          className="word"
          aria-label="Cut by"
          value={by}
          onChange={(e) => {
            setBy(e.target.value as By);
            setSorting(FIRST[e.target.value as By]);
          }}
        >
          {Object.entries(BY).map(([key, words]) => (
            <option key={key} value={key}>
              {words}
            </option>
          ))}
        </SelectField>
      </h2>
      <Table className="rows">
        <Table.Thead>
          <Table.Tr>
            {table.getFlatHeaders().map(({ id, column: c }) => {
              const order = c.getIsSorted();
              return (
                <Table.Th
                  key={id}
                  className={look(id)}
                  aria-sort={order === "asc" ? "ascending" : order === "desc" ? "descending" : "none"}
                >
                  <UnstyledButton className="nowrap" onClick={c.getToggleSortingHandler()}>
                    {String(c.columnDef.header)} {order === "asc" ? "↑" : order === "desc" ? "↓" : ""}
                  </UnstyledButton>
                </Table.Th>
              );
            })}
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {rows.slice(0, isAll ? undefined : SHOWN).map((row) => (
            <Table.Tr key={row.id}>
              {row.getVisibleCells().map((cell) => (
                <Table.Td key={cell.id} className={look(cell.column.id)}>
                  {flexRender(cell.column.columnDef.cell, cell.getContext())}
                </Table.Td>
              ))}
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
      {rows.length > SHOWN && (
        <Button onClick={() => setAll(!isAll)}>
          {isAll ? "Show the first ones" : `Show all ${plural(rows.length, "row")}`}
        </Button>
      )}
    </Box>
  );
}
