import { Box, Button, Group, Table, VisuallyHidden } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, list, type Schema } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { dayTime, plural } from "../../parts/words";
import { fleetZone } from "../../parts/zones";

type Item = Schema["Outbox"];
const MOST = 50;
const LOOK_AGAIN_MS = 5_000;
/** Of an item this many attempts are drawn. */
const MOST_MARKS = 12;

/** The latest notices and what became of each: an attempt is a square, filled when it went well. */
export function Outbox({ lookout }: { lookout?: number }) {
  const client = useQueryClient();
  const items = useQuery({
    queryKey: ["outbox", lookout ?? null],
    queryFn: () => list(api.GET("/api/v1/outbox", { params: { query: { limit: MOST, lookout } } })),
    refetchInterval: LOOK_AGAIN_MS,
  });
  const { error, isBusy, attempt } = useAttempt();
  const again = (item: Item) =>
    attempt(async () => {
      await api.POST("/api/v1/outbox/{id}/resend", { params: { path: { id: item.id } } });
      await client.invalidateQueries({ queryKey: ["outbox"] });
    });
  return (
    <Box aria-label="Outbox" component="section" mt={22}>
      <h2>
        Outbox <span className="soft small plain">one line a notice and route, the latest first</span>
      </h2>
      {items.isError && <Trouble error={items.error} retry={() => items.refetch()} />}
      {items.data?.length === 0 && <p className="soft">Nothing was to be sent yet.</p>}
      {items.data && items.data.length > 0 && (
        <Table className="rows">
          <Table.Thead>
            <Table.Tr>
              <Table.Th>when, {fleetZone()}</Table.Th>
              <Table.Th>what</Table.Th>
              <Table.Th>to</Table.Th>
              <Table.Th>attempts</Table.Th>
              <Table.Th>
                <VisuallyHidden component="span">acts</VisuallyHidden>
              </Table.Th>
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {items.data.map((item) => (
              <Table.Tr key={item.id}>
                <Table.Td className="nowrap">{dayTime(item.created_at, fleetZone())}</Table.Td>
                <Table.Td>
                  {item.stream ? <Link to={`/workbench/${item.stream}`}>{item.title}</Link> : item.title}{" "}
                  <span className="soft">{item.kind}</span>
                </Table.Td>
                <Table.Td>{item.route_name}</Table.Td>
                <Table.Td>
                  <Attempts item={item} />
                </Table.Td>
                <Table.Td className="right">
                  {item.state !== "waiting" && (
                    <Button disabled={isBusy} onClick={() => void again(item)}>
                      Send again
                    </Button>
                  )}
                </Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      )}
      {error !== null && <Trouble error={error} />}
    </Box>
  );
}

function Attempts({ item }: { item: Item }) {
  const last = item.attempts.at(-1);
  const words = {
    waiting: item.attempts.length ? "tried, to be tried again" : "waiting",
    sent: "sent",
    failed: "given up",
    held: "held back: planned work",
  }[item.state];
  return (
    <Group
      component="span"
      gap={5}
      mr={16}
      display="inline-flex"
      title={item.attempts.map((a) => `${a.at} ${a.outcome} ${a.detail}`).join("\n")}
    >
      <svg width={MOST_MARKS * 11} height="11" aria-hidden="true">
        {item.attempts.slice(-MOST_MARKS).map((a, i) => (
          <rect
            key={a.at}
            x={i * 11 + 1}
            y="1"
            width="8"
            height="8"
            fill={a.outcome === "sent" ? "currentColor" : "none"}
            stroke="currentColor"
          />
        ))}
      </svg>
      {words}
      {item.attempts.length > 1 && `, ${plural(item.attempts.length, "attempt")}`}
      {last?.detail && <span className="soft"> {last.detail}</span>}
    </Group>
  );
}
