import { Button, Table, UnstyledButton } from "@mantine/core";
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

const COLUMNS: { name: string; words: string; of: (c: Cut) => number | string | null }[] = [
  { name: "name", words: "", of: (c) => c.name },
  { name: "fp", words: "false", of: (c) => c.fp_findings },
  { name: "tp", words: "real", of: (c) => c.tp_findings },
  { name: "precision", words: "precision", of: (c) => c.precision },
  { name: "missed", words: "missed", of: (c) => c.fn_labels },
  { name: "found", words: "found", of: (c) => c.tp_labels },
  { name: "recall", words: "recall", of: (c) => c.recall },
  { name: "delay", words: "median delay", of: (c) => c.delay_s },
  { name: "rate", words: "false a week", of: (c) => c.false_per_week ?? null },
  { name: "unjudged", words: "unjudged", of: (c) => c.unjudged },
];
const SHOWN = 12;

/** The same counts by stream, family or cause; the heads sort. */
export function Cuts({ card, scan }: { card: Card; scan: number | null }) {
  const [by, setBy] = useState<By>("by_stream");
  const [sort, setSort] = useState({ name: "fp", up: false });
  const [isAll, setAll] = useState(false);
  const column = COLUMNS.find((c) => c.name === sort.name) ?? COLUMNS[0];
  const rows = [...card[by]].sort((a, b) => {
    const [p, q] = [column?.of(a) ?? null, column?.of(b) ?? null];
    // What has no value stands last, either way.
    if (p === null || q === null) return Number(p === null) - Number(q === null);
    const order = typeof p === "string" ? p.localeCompare(String(q)) : p - Number(q);
    return (sort.up ? order : -order) || a.name.localeCompare(b.name);
  });
  const columns = COLUMNS.filter((c) => by === "by_stream" || c.name !== "rate").filter(
    (c) => by !== "by_cause" || !["fp", "precision", "unjudged"].includes(c.name),
  );
  return (
    <section aria-label="Cut finer" className="cuts">
      <h2>
        By{" "}
        <SelectField
          className="word"
          aria-label="Cut by"
          value={by}
          onChange={(e) => {
            setBy(e.target.value as By);
            setSort(
              e.target.value === "by_cause" ? { name: "missed", up: false } : { name: "fp", up: false },
            );
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
            {columns.map((c) => (
              <Table.Th
                key={c.name}
                className={c.name === "name" ? undefined : "figure"}
                aria-sort={sort.name === c.name ? (sort.up ? "ascending" : "descending") : "none"}
              >
                <UnstyledButton
                  className="head"
                  onClick={() =>
                    setSort({ name: c.name, up: sort.name === c.name ? !sort.up : c.name === "name" })
                  }
                >
                  {c.words || BY[by]} {sort.name === c.name ? (sort.up ? "↑" : "↓") : ""}
                </UnstyledButton>
              </Table.Th>
            ))}
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {rows.slice(0, isAll ? undefined : SHOWN).map((c) => (
            <Table.Tr key={c.name}>
              {columns.map(({ name }) => (
                <Table.Td key={name} className={name === "name" ? undefined : "figure"}>
                  {cell(c, name, scan)}
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
    </section>
  );
}

function cell(c: Cut, name: string, scan: number | null) {
  const pair = (ci: (number | null)[] | null, value: number | null) => (
    <>
      <Whisker value={value} low={ci?.[0] ?? null} high={ci?.[1] ?? null} /> {ratio(value)}
    </>
  );
  switch (name) {
    case "name":
      return c.stream !== undefined && scan !== null ? (
        <Link to={`/workbench/${c.stream}?scan=${scan}`}>{c.name}</Link>
      ) : (
        c.name || "no cause noted"
      );
    case "fp":
      return figure(c.fp_findings);
    case "tp":
      return figure(c.tp_findings);
    case "precision":
      return pair(c.precision_ci, c.precision);
    case "missed":
      return figure(c.fn_labels);
    case "found":
      return figure(c.tp_labels);
    case "recall":
      return pair(c.recall_ci, c.recall);
    case "delay":
      return duration(c.delay_s);
    case "rate":
      return figure(c.false_per_week, 2);
    default:
      return figure(c.unjudged);
  }
}
