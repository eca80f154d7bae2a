import { Anchor, Button, Table } from "@mantine/core";
import { useInfiniteQuery } from "@tanstack/react-query";
import { api, get } from "../../api/client";
import { dayTime, zoneName } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { Section } from "./Section";

/** What was done, by whom and from where. Nothing here can be changed. */
export function Trail({ most }: { most?: number }) {
  const trail = useInfiniteQuery({
    queryKey: ["trail", most],
    queryFn: ({ pageParam }) =>
      get(
        api.GET("/api/v1/trail", {
          params: { query: { limit: most ?? 100, cursor: pageParam || undefined } },
        }),
      ),
    initialPageParam: "",
    getNextPageParam: (page) => page.next,
  });
  const rows = trail.data?.pages.flatMap((p) => p.items) ?? [];
  return (
    <Section
      title="Audit trail"
      sum={`newest first, ${zoneName(Date.now(), fleetZone())}`}
      isPending={trail.isPending}
      error={trail.error}
      action={
        <Anchor className="act" href="/api/v1/trail.jsonl" download>
          JSON Lines
        </Anchor>
      }
    >
      <Table className="rows">
        <Table.Tbody>
          {rows.map((r) => (
            <Table.Tr key={r.id}>
              <Table.Td ff="monospace" pr={16} className="nowrap">
                {dayTime(r.at, fleetZone())}
              </Table.Td>
              <Table.Td>{r.by || <span className="soft">nobody</span>}</Table.Td>
              <Table.Td>
                {r.what}
                {r.subject ? <span className="soft"> · {r.subject}</span> : null}
              </Table.Td>
              <Table.Td ff="monospace" pr={16} className="soft nowrap">
                {r.address}
              </Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
      {!most && trail.hasNextPage && (
        <p>
          <Button onClick={() => trail.fetchNextPage()} disabled={trail.isFetching}>
            Show 100 more
          </Button>
        </p>
      )}
    </Section>
  );
}
