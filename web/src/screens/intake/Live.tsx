import { Table } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { api, list } from "../../api/client";
import { TopBar } from "../../frame";
import { dayTime, figure } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { Tokens } from "../settings/Tokens";
import { Feeds } from "./Feeds";
import { Tabs } from "./Tabs";

/** What comes in by itself: pages fetched on a schedule, and what scripts and senders push. */
export default function Live() {
  return (
    <div className="padded">
      <TopBar>
        <h1>Intake</h1>
      </TopBar>
      <Tabs />
      <Doors />
      <Feeds />
      <Tokens />
    </div>
  );
}

function Doors() {
  const doors = useQuery({
    queryKey: ["doors"],
    queryFn: () => list(api.GET("/api/v1/doors")),
    refetchInterval: 10_000,
  });
  return (
    <section>
      <h2>What came in</h2>
      {doors.data?.length === 0 && (
        <p className="soft">Nothing yet. Add a feed, or make a token and push to the addresses below.</p>
      )}
      {Boolean(doors.data?.length) && (
        <Table className="rows">
          <Table.Thead>
            <Table.Tr>
              <Table.Th>from</Table.Th>
              <Table.Th>how</Table.Th>
              <Table.Th className="figure">messages</Table.Th>
              <Table.Th className="figure">samples</Table.Th>
              <Table.Th className="figure">points refused</Table.Th>
              <Table.Th>latest, {fleetZone()}</Table.Th>
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {doors.data?.map((d) => (
              <Table.Tr key={`${d.door} ${d.source}`}>
                <Table.Td>{d.source}</Table.Td>
                <Table.Td className="soft">{d.door === "push" ? "pushed" : "fetched"}</Table.Td>
                <Table.Td className="figure">{figure(d.batches)}</Table.Td>
                <Table.Td className="figure">{figure(d.samples)}</Table.Td>
                <Table.Td className="figure">{figure(d.rows_aside)}</Table.Td>
                <Table.Td className="soft">{dayTime(d.last, fleetZone())}</Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      )}
    </section>
  );
}
