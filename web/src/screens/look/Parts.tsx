import { Table } from "@mantine/core";
import { SideBySide } from "../../parts/SideBySide";
import { figure } from "../../parts/words";
import type { Look } from "./words";

/** What pushed a period up, and what pulled it down, against the same parts before. */
export function Parts({ look }: { look: Look }) {
  if (!look.up.length && !look.down.length)
    return (
      <p className="soft small">
        {look.adds_up
          ? "It has no parts: no other stream shares its metric."
          : "It is a mean, so nothing adds up to it."}
      </p>
    );
  return (
    <SideBySide of="repeat(auto-fit, minmax(320px, 1fr))" gap="12px 40px" mt={16}>
      <Side words="Pushed it up" rows={look.up} name={look.pushed_by} />
      <Side words="Pulled it down" rows={look.down} name={look.pushed_by} />
    </SideBySide>
  );
}

function Side({ words, rows, name }: { words: string; rows: Look["up"]; name: string }) {
  return (
    <section aria-label={words}>
      <h2>{words}</h2>
      {rows.length === 0 ? (
        <p className="soft small">Nothing did.</p>
      ) : (
        <Table className="rows">
          <Table.Thead>
            <Table.Tr>
              <Table.Th>{name}</Table.Th>
              <Table.Th className="figure">this one</Table.Th>
              <Table.Th className="figure">usual</Table.Th>
              <Table.Th className="figure">change</Table.Th>
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {rows.map((row) => (
              <Table.Tr key={row.name}>
                <Table.Td>{row.name}</Table.Td>
                <Table.Td className="figure">{figure(row.value)}</Table.Td>
                <Table.Td className="figure">{figure(row.usual)}</Table.Td>
                <Table.Td className="figure">
                  <strong>
                    {row.change > 0 ? "+" : ""}
                    {figure(row.change)}
                  </strong>
                </Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      )}
    </section>
  );
}
