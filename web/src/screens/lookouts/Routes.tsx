import { Box, Button, Checkbox, Group, Table } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, get } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { Field, SelectField } from "../../parts/Field";
import { FormRow } from "../../parts/FormRow";
import { routesQuery } from "../../parts/routes";
import { sure } from "../../parts/sure";
import { dayTime, plural } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { TakesForm } from "./TakesForm";
import { type Route, takesInWords } from "./takes";

/** Where notices go: made, tested, taken away. */
export function Routes() {
  const client = useQueryClient();
  const routes = useQuery(routesQuery);
  const [isOpen, setOpen] = useState(false);
  const [kind, setKind] = useState<Route["kind"]>("mail");
  const [secret, setSecret] = useState("");
  const { report, error, isBusy, attempt } = useAttempt();
  const doing = (work: () => Promise<string>) =>
    attempt(async () => {
      const words = await work();
      await client.invalidateQueries({ queryKey: ["routes"] });
      await client.invalidateQueries({ queryKey: ["outbox"] });
      return words;
    });
  const make = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    void doing(async () => {
      const made = await get(
        api.POST("/api/v1/routes", {
          body: {
            kind: String(form.get("kind")) as Route["kind"],
            name: String(form.get("name") ?? ""),
            to: String(form.get("to") ?? ""),
            points: form.get("points") === "on",
          },
        }),
      );
      setSecret(made.secret);
      setOpen(false);
      return made.kind === "mail"
        ? `${made.to} gets a mail that asks whether it wants notices; until then they are held.`
        : `${made.name} is made.`;
    });
  };
  const test = (route: Route) =>
    doing(async () => {
      await api.POST("/api/v1/routes/{id}/test", { params: { path: { id: route.id } } });
      return `A test is on its way to ${route.name}; the outbox says what becomes of it.`;
    });
  const ask = (route: Route) =>
    doing(async () => {
      await api.POST("/api/v1/routes/{id}/ask", { params: { path: { id: route.id } } });
      return `${route.to} is asked again.`;
    });
  const remove = (route: Route) =>
    doing(async () => {
      await api.DELETE("/api/v1/routes/{id}", { params: { path: { id: route.id } } });
      return `${route.name} is taken away.`;
    });
  return (
    <Box aria-label="Routes" component="section" mt={22}>
      <h2>
        Routes <span className="soft small plain">where notices go</span>
      </h2>
      {routes.isError && <Trouble error={routes.error} retry={() => routes.refetch()} />}
      {routes.data && routes.data.length > 0 && (
        <Table className="rows">
          <Table.Tbody>
            {routes.data.map((route) => (
              <RouteRow
                key={route.id}
                route={route}
                isBusy={isBusy}
                first={route.state === "unconfirmed" ? () => void ask(route) : () => void test(route)}
                remove={() =>
                  sure(
                    "Take away",
                    route.name,
                    "Lookouts send nothing there any more; what was sent stays in the outbox.",
                    () => remove(route),
                  )
                }
              />
            ))}
          </Table.Tbody>
        </Table>
      )}
      {isOpen ? (
        <FormRow aria-label="New route" onSubmit={make}>
          <label>
            Kind
            <SelectField
              name="kind"
              value={kind}
              onChange={(event) => setKind(event.currentTarget.value as Route["kind"])}
            >
              <option value="mail">mail: with picture, points and a link for the verdict</option>
              <option value="hook">hook: CloudEvents, signed</option>
              <option value="chat">chat: one line of text</option>
            </SelectField>
          </label>
          <label>
            Name
            <Field name="name" required maxLength={120} />
          </label>
          <label className="filler">
            {kind === "mail" ? "Mail address" : "Web address"}
            <Field
              name="to"
              type={kind === "mail" ? "email" : "url"}
              w="100%"
              required
              placeholder={kind === "mail" ? "duty@harbour.example" : "https://pager.example/in"}
            />
          </label>
          {kind === "hook" && (
            <Checkbox name="points" size="xs" label="with the points of the span, as CSV" />
          )}
          <Button type="submit" variant="filled" disabled={isBusy}>
            Make the route
          </Button>
          <Button onClick={() => setOpen(false)}>Leave it</Button>
        </FormRow>
      ) : (
        <p className="tight">
          <Button onClick={() => setOpen(true)}>Make a route</Button>
        </p>
      )}
      {secret && (
        <p role="status">
          Its messages are signed with <code>{secret}</code>. It is shown only now.
        </p>
      )}
      <p role="status" className="small">
        {report}
      </p>
      {error !== null && <Trouble error={error} />}
    </Box>
  );
}

interface RowProps {
  route: Route;
  isBusy: boolean;
  first: () => void;
  remove: () => void;
}

/** One route: where it goes, what it takes, and what may be done with it; first : ask its address again, or send a test. */
function RouteRow({ route, isBusy, first, remove }: RowProps) {
  const [isChanged, setChanged] = useState(false);
  return (
    <Table.Tr>
      <Table.Td>
        <strong>{route.name}</strong> <span className="soft">{route.kind}</span>
      </Table.Td>
      <Table.Td>{route.to}</Table.Td>
      <Table.Td>
        takes {takesInWords(route)}
        <br />
        <Standing route={route} />
        {isChanged && <TakesForm route={route} done={() => setChanged(false)} />}
      </Table.Td>
      <Table.Td>
        <Group gap="6px 18px" justify="flex-end">
          <Button disabled={isBusy} onClick={first}>
            {route.state === "unconfirmed" ? "Ask again" : "Send a test"}
          </Button>
          <Button aria-expanded={isChanged} onClick={() => setChanged(!isChanged)}>
            What it takes
          </Button>
          <Button disabled={isBusy} onClick={remove}>
            Take away
          </Button>
        </Group>
      </Table.Td>
    </Table.Tr>
  );
}

/** What stands in the way of a route, if anything. */
function Standing({ route }: { route: Route }) {
  if (route.state === "unconfirmed") return <strong>waits for its yes: notices are held</strong>;
  if (!route.failing_since) return <span className="soft">nothing went wrong</span>;
  return (
    <span className="above">
      failing since {dayTime(route.failing_since, fleetZone())}, {plural(route.failures, "time")}:{" "}
      {route.last_detail}
    </span>
  );
}
