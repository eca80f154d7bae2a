import { Button, Table } from "@mantine/core";
import { Link } from "react-router";
import type { Finding, Incident } from "../../api/client";
import { Mark } from "../../parts/marks";
import { duration, figure } from "../../parts/words";
import { linkTo } from "../tide-table/Strongest";

/** Open findings within six hours of an incident that are not in it. */
export function Nearby({ incident, put }: { incident: Incident; put?: (finding: Finding) => void }) {
  return (
    <>
      <h2>
        Within six hours, not in it{" "}
        <span className="soft small plain">
          open findings that share nothing with it, or began too far off
        </span>
      </h2>
      <Table className="rows">
        <Table.Tbody>
          {incident.nearby.map((f) => {
            const lag = (f.start - (incident.start ?? 0)) / 1000;
            return (
              <Table.Tr key={f.id}>
                <Table.Td>
                  <Mark kind={f.kind} direction={f.direction} /> <Link to={linkTo(f)}>{f.title}</Link>{" "}
                  <span className="soft">{f.metric}</span>
                </Table.Td>
                <Table.Td className="figure">{figure(f.score, 1)} σ</Table.Td>
                <Table.Td>
                  {lag === 0 ? "same time" : `${duration(Math.abs(lag))} ${lag < 0 ? "before" : "after"}`}
                </Table.Td>
                <Table.Td className="right">{put && <Button onClick={() => put(f)}>Put in</Button>}</Table.Td>
              </Table.Tr>
            );
          })}
        </Table.Tbody>
      </Table>
    </>
  );
}
