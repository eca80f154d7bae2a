import { Box, Button, Group, Select, TextInput } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { Link } from "react-router";
import { api, list } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { routesQuery } from "../../parts/routes";
import type { Look } from "./words";

/** Who gets this look each morning, and at which hour. */
export function Mornings({ look, metric }: { look: Look; metric: string }) {
  const client = useQueryClient();
  const routes = useQuery(routesQuery);
  const mornings = useQuery({ queryKey: ["mornings"], queryFn: () => list(api.GET("/api/v1/mornings")) });
  const { report, error, isBusy, attempt } = useAttempt();
  const [route, setRoute] = useState<string | null>(null);
  const [at, setAt] = useState("07:00");
  const own = (mornings.data ?? []).filter(
    (m) => m.by === look.by && (metric ? m.metric === metric : m.stream === look.stream),
  );
  const doing = (work: () => Promise<string>) =>
    attempt(async () => {
      const words = await work();
      await client.invalidateQueries({ queryKey: ["mornings"] });
      return words;
    });
  const make = (event: FormEvent) => {
    event.preventDefault();
    void doing(async () => {
      const body = {
        ...(metric ? { metric } : { stream: look.stream }),
        by: look.by,
        n: look.n,
        clock: at,
        zone: look.zone,
        route: Number(route),
      };
      await api.POST("/api/v1/mornings", { body: body as never });
      return `It is sent with the next ${look.by}.`;
    });
  };
  const end = (id: number) =>
    doing(async () => {
      await api.DELETE("/api/v1/mornings/{id}", { params: { path: { id } } });
      return "It is sent no more.";
    });
  return (
    <Box aria-label="Each morning" component="section" mt={22}>
      <h2>{look.by === "day" ? "Each morning" : "Each Monday"}</h2>
      {own.map((m) => (
        <p key={m.id} className="tight">
          Sent to {m.route_name} at {m.clock}, {m.zone}.{" "}
          <Button disabled={isBusy} onClick={() => void end(m.id)}>
            Send it no more
          </Button>
        </p>
      ))}
      {routes.data?.length === 0 ? (
        <p className="soft small">
          There is no route to send it by: <Link to="/lookouts">make one</Link>.
        </p>
      ) : (
        <form onSubmit={make}>
          <Group align="end" gap="sm">
            <Select
              label="Send it to"
              data={(routes.data ?? []).map((r) => ({ value: String(r.id), label: r.name }))}
              value={route}
              onChange={setRoute}
              required
            />
            <TextInput
              label={`at, ${look.zone}`}
              type="time"
              required
              value={at}
              onChange={(event) => setAt(event.currentTarget.value)}
            />
            <Button type="submit" disabled={isBusy || route === null}>
              Send it
            </Button>
          </Group>
        </form>
      )}
      <p role="status" className="small tight">
        {report}
      </p>
      {error !== null && <Trouble error={error} />}
    </Box>
  );
}
