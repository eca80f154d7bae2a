import { Box, Button, Group, Table, VisuallyHidden } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, get, list, onlyIf, type Schema } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { Field, SelectField } from "../../parts/Field";
import { FormRow } from "../../parts/FormRow";
import { sure } from "../../parts/sure";
import { dayTime, figure } from "../../parts/words";
import { fleetZone } from "../../parts/zones";

type Feed = Schema["Feed"];

/** Pages fetched on a schedule, how the last fetch went, and when the next is due. */
export function Feeds() {
  const client = useQueryClient();
  const [isAdding, setAdding] = useState(false);
  const { report, error, attempt } = useAttempt();
  const feeds = useQuery({
    queryKey: ["feeds"],
    queryFn: () => list(api.GET("/api/v1/feeds")),
    refetchInterval: 10_000,
  });
  const fresh = () => client.invalidateQueries({ queryKey: ["feeds"] });
  const one = (feed: Feed) => ({ params: { path: { id: feed.id } } });
  const pull = (feed: Feed) =>
    attempt(async () => {
      const now = await get(api.POST("/api/v1/feeds/{id}/pull", one(feed)));
      fresh();
      return `${feed.name}: ${now.last_status}`;
    });
  const turn = (feed: Feed) =>
    attempt(async () => {
      await api.PATCH("/api/v1/feeds/{id}", { ...one(feed), body: { is_on: !feed.is_on }, ...onlyIf(feed) });
      fresh();
      return `${feed.name} is ${feed.is_on ? "off" : "on"}.`;
    });
  const remove = (feed: Feed) =>
    attempt(async () => {
      await api.DELETE("/api/v1/feeds/{id}", one(feed));
      fresh();
      return `${feed.name} is not fetched any more; what it brought stays.`;
    });
  return (
    <Box component="section" mt={22}>
      <h2>Feeds</h2>
      {report && <p role="status">{report}</p>}
      {error !== null && <Trouble error={error} />}
      {feeds.data?.length === 0 && <p className="soft">No page is fetched yet.</p>}
      {Boolean(feeds.data?.length) && (
        <Table className="rows">
          <Table.Thead>
            <Table.Tr>
              <Table.Th>name</Table.Th>
              <Table.Th>page</Table.Th>
              <Table.Th className="figure">every</Table.Th>
              <Table.Th>last fetch, {fleetZone()}</Table.Th>
              <Table.Th>next</Table.Th>
              <Table.Th>
                <VisuallyHidden component="span">what to do</VisuallyHidden>
              </Table.Th>
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {feeds.data?.map((f) => (
              <Table.Tr key={f.id}>
                <Table.Td>
                  {f.name}
                  <div className="soft small">{f.kind === "metrics" ? "OpenMetrics text" : "calendar"}</div>
                </Table.Td>
                <Table.Td className="soft">{f.url}</Table.Td>
                <Table.Td className="figure">{seconds(f.every_s ?? 60)}</Table.Td>
                <Table.Td>
                  {f.last_at ? dayTime(f.last_at, fleetZone()) : "never"}
                  <div className="small">
                    {f.is_fine === false && (
                      <Box component="span" fw={700} className="above">
                        failed {figure(f.failures)}× ·{" "}
                      </Box>
                    )}
                    <span className="soft">{f.last_status}</span>
                  </div>
                </Table.Td>
                <Table.Td className="soft">
                  {!f.is_on ? "off" : f.next_at ? dayTime(f.next_at, fleetZone()) : "now"}
                </Table.Td>
                <Table.Td>
                  <Group gap="6px 18px">
                    <Button onClick={() => pull(f)} aria-label={`Fetch ${f.name} now`}>
                      Fetch now
                    </Button>
                    <Button onClick={() => turn(f)} aria-label={`Turn ${f.name} ${f.is_on ? "off" : "on"}`}>
                      {f.is_on ? "Off" : "On"}
                    </Button>
                    <Button
                      onClick={() =>
                        sure("Remove", f.name, "It is not fetched any more; what it brought stays.", () =>
                          remove(f),
                        )
                      }
                      aria-label={`Remove ${f.name}`}
                    >
                      Remove
                    </Button>
                  </Group>
                </Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      )}
      <p>
        <Button aria-expanded={isAdding} onClick={() => setAdding(!isAdding)}>
          Add a feed
        </Button>
      </p>
      {isAdding && (
        <NewFeed
          onAdd={async (body) => {
            const isDone = await attempt(async () => {
              const feed = await get(api.POST("/api/v1/feeds", { body }));
              fresh();
              return `${feed.name} will be fetched within a few seconds.`;
            });
            if (isDone) setAdding(false);
          }}
        />
      )}
    </Box>
  );
}

function NewFeed({ onAdd }: { onAdd: (body: Schema["FeedRequest"]) => void }) {
  const [kind, setKind] = useState<"metrics" | "calendar">("metrics");
  const add = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const data = new FormData(event.currentTarget);
    onAdd({
      name: String(data.get("name")),
      kind,
      url: String(data.get("url")),
      every_s: Number(data.get("every")),
      timeout_s: Number(data.get("timeout")),
      zone: fleetZone(),
    });
  };
  return (
    <FormRow onSubmit={add} aria-label="New feed">
      <label>
        Name
        <Field w="22ch" name="name" required maxLength={120} />
      </label>
      <label>
        What it is
        <SelectField value={kind} onChange={(e) => setKind(e.target.value as typeof kind)}>
          <option value="metrics">OpenMetrics text</option>
          <option value="calendar">calendar (iCalendar)</option>
        </SelectField>
      </label>
      <label>
        Address
        <Field w="46ch" name="url" required placeholder="http://10.0.0.7:9100/metrics" />
      </label>
      <label>
        Every, s
        <Field w="9ch" name="every" type="number" min={5} defaultValue={60} />
      </label>
      <label>
        Wait at most, s
        <Field w="9ch" name="timeout" type="number" min={1} max={60} defaultValue={10} />
      </label>
      <Button type="submit">Add</Button>
    </FormRow>
  );
}

function seconds(s: number): string {
  return s % 3600 === 0 ? `${s / 3600} h` : s % 60 === 0 ? `${s / 60} min` : `${s} s`;
}
