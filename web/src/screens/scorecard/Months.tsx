import { Table } from "@mantine/core";
import { Whisker } from "../../parts/marks";
import { ratio } from "../../parts/words";
import type { Cut } from "./figures";

export function monthWords(name: string): string {
  const [year, month] = name.split("-").map(Number);
  return new Date(Date.UTC(year ?? 1970, (month ?? 1) - 1)).toLocaleDateString("en-GB", {
    month: "short",
    year: "numeric",
    timeZone: "UTC",
  });
}

/** Precision and recall month by month. */
export function Months({ months }: { months: Cut[] }) {
  const told = months.filter((m) => m.precision !== null || m.recall !== null);
  return (
    <section aria-label="Over time">
      <h2>
        Over time <span className="soft small plain">by the month a finding or an incident begins in</span>
      </h2>
      {told.length === 0 ? (
        <p className="soft">No month has anything to count.</p>
      ) : (
        <Table className="rows">
          <Table.Thead>
            <Table.Tr>
              <Table.Th>month</Table.Th>
              <Table.Th>precision</Table.Th>
              <Table.Th>recall</Table.Th>
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {told.map((m) => (
              <Table.Tr key={m.name}>
                <Table.Td className="nowrap">{monthWords(m.name)}</Table.Td>
                <Table.Td className="small">
                  <Whisker
                    value={m.precision}
                    low={m.precision_ci?.[0] ?? null}
                    high={m.precision_ci?.[1] ?? null}
                  />{" "}
                  {ratio(m.precision)} <span className="soft">of {m.tp_findings + m.fp_findings}</span>
                </Table.Td>
                <Table.Td className="figure small">
                  {ratio(m.recall)} <span className="soft">of {m.tp_labels + m.fn_labels}</span>
                </Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      )}
    </section>
  );
}
