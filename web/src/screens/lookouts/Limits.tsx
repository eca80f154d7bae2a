import { Button, Group, Table } from "@mantine/core";
import { Link } from "react-router";
import { figure, plural } from "../../parts/words";
import type { Proposed } from "./words";

const SHOWN = 8;
/** As the plan has them: a limit is not rounded further. */
const exact = new Intl.NumberFormat("en", { maximumSignificantDigits: 4 });

/** Limits proposed from history, each with its reason, and the plan with the widest of them to rehearse. */
export function Limits({ found, take }: { found: Proposed; take: (plan: string) => void }) {
  const { per_stream: rows, widest, plan } = found;
  const side = (value: number | null, unit: string) =>
    value === null ? "none" : `${exact.format(value)}${unit ? ` ${unit}` : ""}`;
  const unit = rows[0]?.unit ?? "";
  return (
    <>
      <h3>Limits that history proposes</h3>
      <Table className="rows">
        <Table.Thead>
          <Table.Tr>
            <Table.Th>stream</Table.Th>
            <Table.Th className="figure">lower</Table.Th>
            <Table.Th className="figure">upper</Table.Th>
            <Table.Th className="figure">samples beyond</Table.Th>
            <Table.Th>why</Table.Th>
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {rows.slice(0, SHOWN).map((row) => (
            <Table.Tr key={row.stream}>
              <Table.Td>
                <Link to={`/workbench/${row.stream}`}>{row.title}</Link>{" "}
                <span className="soft">{row.metric}</span>
              </Table.Td>
              <Table.Td className="figure">{side(row.lower, row.unit)}</Table.Td>
              <Table.Td className="figure">{side(row.upper, row.unit)}</Table.Td>
              <Table.Td className="figure">{figure(row.beyond)}</Table.Td>
              <Table.Td className="soft small">{row.reason}</Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
      {rows.length > SHOWN && <p className="soft small">and {plural(rows.length - SHOWN, "more", "more")}</p>}
      {plan !== null && (
        <Group component="p" gap="6px 18px">
          <Button onClick={() => take(plan)}>Take the widest into the plan</Button>
          <span className="soft">
            {[
              widest.lower === undefined ? "" : `${side(widest.lower, unit)} at least`,
              widest.upper === undefined ? "" : `${side(widest.upper, unit)} at most`,
            ]
              .filter(Boolean)
              .join(", ")}
          </span>
        </Group>
      )}
    </>
  );
}
