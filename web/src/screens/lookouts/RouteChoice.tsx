import { Checkbox, Fieldset } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { routesQuery } from "../../parts/routes";
import type { Lookout } from "./words";

/** Which routes a lookout's notices take. */
export function RouteChoice({ lookout }: { lookout: Lookout }) {
  const client = useQueryClient();
  const routes = useQuery(routesQuery);
  const { error, isBusy, attempt } = useAttempt();
  const own = lookout.routes ?? [];
  const turn = (id: number, isIn: boolean) =>
    attempt(async () => {
      await api.PATCH("/api/v1/lookouts/{id}", {
        params: { path: { id: lookout.id } },
        body: { routes: isIn ? [...own, id] : own.filter((other) => other !== id) } as never,
      });
      await client.invalidateQueries({ queryKey: ["lookouts"] });
    });
  if (!routes.data) return null;
  return (
    <Fieldset variant="unstyled">
      <legend className="soft small">Notices go to</legend>
      {routes.data.map((route) => (
        <Checkbox
          key={route.id}
          size="xs"
          label={route.name}
          disabled={isBusy}
          checked={own.includes(route.id)}
          onChange={(e) => void turn(route.id, e.currentTarget.checked)}
        />
      ))}
      {routes.data.length === 0 && (
        <p className="soft small tight">
          Nobody yet: <Link to="/lookouts">make a route</Link>.
        </p>
      )}
      {error !== null && <Trouble error={error} />}
    </Fieldset>
  );
}
