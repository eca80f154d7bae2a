import { Box, Button, Table, VisuallyHidden } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, get, list } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { ended } from "../../parts/jobs";
import { dayTime, figure, plural } from "../../parts/words";
import { fleetZone } from "../../parts/zones";

/** What files brought, the latest first; each can be taken back for some days. */
export function Batches() {
  const client = useQueryClient();
  const [asking, setAsking] = useState<number | null>(null);
  const { report, error, isBusy, attempt } = useAttempt();
  const batches = useQuery({ queryKey: ["batches"], queryFn: () => list(api.GET("/api/v1/batches")) });
  if (!batches.data?.length) return null;
  const undo = (id: number, source: string) => {
    setAsking(null);
    return attempt(async () => {
      const { id: job } = await get(api.POST("/api/v1/batches/{id}/undo", { params: { path: { id } } }));
      await ended(job);
      const samples = batches.data?.find((b) => b.id === id)?.samples ?? 0;
      void client.invalidateQueries({ queryKey: ["batches"] });
      return `${source} is taken back: ${plural(samples, "sample")} went, what they wrote over is there again.`;
    });
  };
  return (
    <Box component="section" mt={22}>
      <h2>Batches</h2>
      <p role="status">{isBusy ? "Taking it back" : report}</p>
      {error !== null && <Trouble error={error} />}
      <Table className="rows">
        <Table.Thead>
          <Table.Tr>
            <Table.Th>source</Table.Th>
            <Table.Th className="figure">streams</Table.Th>
            <Table.Th className="figure">rows taken</Table.Th>
            <Table.Th className="figure">set aside</Table.Th>
            <Table.Th className="figure">samples</Table.Th>
            <Table.Th>by</Table.Th>
            <Table.Th>accepted, {fleetZone()}</Table.Th>
            <Table.Th>
              <VisuallyHidden component="span">undo</VisuallyHidden>
            </Table.Th>
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {batches.data.map((b) => (
            <Table.Tr key={b.id} data-gone={b.undone_at ? true : undefined}>
              <Table.Td>
                {b.source}
                {b.quarantined_at && !b.undone_at && (
                  <div>
                    <Box component="span" fw={700} className="above">
                      in quarantine
                    </Box>{" "}
                    <span className="soft">
                      since {dayTime(b.quarantined_at, fleetZone())}: it cannot be folded, and none of its
                      samples is in any answer ({b.quarantine_reason}). Undo it, and send it again.
                    </span>
                  </div>
                )}
              </Table.Td>
              <Table.Td className="figure">{figure(b.streams)}</Table.Td>
              <Table.Td className="figure">{figure(b.rows_taken)}</Table.Td>
              <Table.Td className="figure">
                {b.rows_aside ? (
                  <a className="act" href={`/api/v1/batches/${b.id}/aside.csv`}>
                    {figure(b.rows_aside)}
                  </a>
                ) : (
                  0
                )}
              </Table.Td>
              <Table.Td className="figure">{figure(b.samples)}</Table.Td>
              <Table.Td className="soft">{b.created_by}</Table.Td>
              <Table.Td className="soft">{dayTime(b.accepted_at, fleetZone())}</Table.Td>
              <Table.Td>
                {b.undone_at ? (
                  <span className="soft">undone {dayTime(b.undone_at, fleetZone())}</span>
                ) : asking === b.id ? (
                  <>
                    Take back {plural(b.samples, "sample")}?{" "}
                    <Button onClick={() => undo(b.id, b.source)}>Yes, undo</Button>{" "}
                    <Button onClick={() => setAsking(null)}>No</Button>
                  </>
                ) : (
                  b.can_undo && (
                    <Button aria-label={`Undo ${b.source}`} onClick={() => setAsking(b.id)}>
                      Undo
                    </Button>
                  )
                )}
              </Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
    </Box>
  );
}
