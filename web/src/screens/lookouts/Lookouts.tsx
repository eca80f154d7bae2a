import { Box, Table } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, list } from "../../api/client";
import { TopBar } from "../../frame";
import { Trouble, Waiting } from "../../parts/ask";
import { sessionQuery } from "../../parts/session";
import { dayTime, figure } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { Outbox } from "./Outbox";
import { PegWords } from "./Peg";
import { Routes } from "./Routes";
import { type Lookout, scopeWords, stateCounts } from "./words";

/** Plans that are kept running, one a line: over what, and how many streams are in which state. */
export default function Lookouts() {
  const session = useQuery(sessionQuery);
  const lookouts = useQuery({ queryKey: ["lookouts"], queryFn: () => list(api.GET("/api/v1/lookouts")) });
  return (
    <div className="padded">
      <TopBar>
        <h1>Lookouts</h1>
        <span className="soft">plans kept running on live streams</span>
        {session.data?.demo_page && (
          <Box component="a" ml="auto" href={session.data.demo_page} target="_blank" rel="noreferrer">
            The harbour and its mail
          </Box>
        )}
      </TopBar>
      {lookouts.isPending && <Waiting what="Reading the lookouts" />}
      {lookouts.isError && <Trouble error={lookouts.error} retry={() => lookouts.refetch()} />}
      {lookouts.data?.length === 0 && (
        <div className="empty">
          <h2>Nothing keeps watch yet</h2>
          <p>
            Open a stream in the <Link to="/workbench">workbench</Link>: the plan that stands for it can be
            kept running on it, or on its whole family.
          </p>
        </div>
      )}
      {lookouts.data && lookouts.data.length > 0 && (
        <Table className="rows">
          <Table.Thead>
            <Table.Tr>
              <Table.Th>lookout</Table.Th>
              <Table.Th>over</Table.Th>
              <Table.Th>plan</Table.Th>
              <Table.Th>streams</Table.Th>
              <Table.Th>last looked, {fleetZone()}</Table.Th>
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {lookouts.data.map((one) => (
              <Row key={one.id} lookout={one} />
            ))}
          </Table.Tbody>
        </Table>
      )}
      <Routes />
      <Outbox />
    </div>
  );
}

function Row({ lookout }: { lookout: Lookout }) {
  return (
    <Table.Tr>
      <Table.Td>
        <Link to={`/lookouts/${lookout.id}`}>{lookout.name}</Link>
        {!lookout.on && <span className="soft"> switched off</span>}
      </Table.Td>
      <Table.Td>{scopeWords(lookout.scope)}</Table.Td>
      <Table.Td>
        {lookout.plan_name}, v{lookout.plan_version}
      </Table.Td>
      <Table.Td>
        {stateCounts(lookout.states).map(([state, n]) => (
          <PegWords key={state} state={state}>
            {figure(n)} {state}
          </PegWords>
        ))}
      </Table.Td>
      <Table.Td className="soft">
        {lookout.looked_at ? dayTime(lookout.looked_at, fleetZone()) : "not yet"}
      </Table.Td>
    </Table.Tr>
  );
}
