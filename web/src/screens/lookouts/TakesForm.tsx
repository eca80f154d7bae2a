import {
  Button,
  Fieldset,
  Group,
  MultiSelect,
  NumberInput,
  Select,
  Stack,
  TagsInput,
  TextInput,
} from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, list } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { fleetZone } from "../../parts/zones";
import { attributesOf, DAYS, type Hours, type Route, SIDES, type Takes } from "./takes";

const DAY_CHOICES = DAYS.map((label, i) => ({ value: String(i + 1), label }));
const EVENING: Hours = { days: [1, 2, 3, 4, 5], opens: "18:00", closes: "08:00" };

/** Which findings a route takes and when; each field that is empty lets all through. */
export function TakesForm({ route, done }: { route: Route; done: () => void }) {
  const client = useQueryClient();
  const { error, isBusy, attempt } = useAttempt();
  const given = route.takes ?? {};
  const [takes, setTakes] = useState<Takes>(given);
  const [attributes, setAttributes] = useState(
    Object.entries(given.attributes ?? {})
      .map((pair) => pair.join(" "))
      .join(", "),
  );
  const [most, setMost] = useState<number | null>(route.most_an_hour ?? null);
  const change = (part: Partial<Takes>) => setTakes((old) => ({ ...old, ...part }));
  const keep = async (event: FormEvent) => {
    event.preventDefault();
    const body = {
      takes: { ...takes, attributes: attributesOf(attributes), zone: takes.zone ?? fleetZone() },
      most_an_hour: most,
    };
    const isKept = await attempt(async () => {
      await api.PATCH("/api/v1/routes/{id}", { params: { path: { id: route.id } }, body: body as never });
      await client.invalidateQueries({ queryKey: ["routes"] });
    });
    if (isKept) done();
  };
  return (
    <form aria-label={`What ${route.name} takes`} onSubmit={(event) => void keep(event)}>
      <Stack gap="sm" py="sm" maw={760}>
        <Group grow align="start">
          <TagsInput
            label="Families"
            description="empty: all"
            placeholder="gate_taps"
            value={takes.metrics ?? []}
            onChange={(metrics) => change({ metrics })}
          />
          <TextInput
            label="Attributes"
            description="a stream must have them all"
            placeholder="place Northquay, fare adult"
            value={attributes}
            onChange={(event) => setAttributes(event.currentTarget.value)}
          />
        </Group>
        <Group grow align="start">
          <Select
            label="Side"
            description="of what was expected"
            data={Object.entries(SIDES).map(([value, label]) => ({ value, label }))}
            allowDeselect={false}
            value={takes.sides ?? "both"}
            onChange={(value) => change({ sides: (value ?? "both") as Takes["sides"] })}
          />
          <NumberInput
            label="From how many sigmas on"
            description="one that grows is sent then"
            min={0}
            value={takes.least ?? ""}
            onChange={(value) => change({ least: typeof value === "number" ? value : null })}
          />
          <NumberInput
            label="At most an hour"
            description="the rest is joined into one"
            min={1}
            allowDecimal={false}
            value={most ?? ""}
            onChange={(value) => setMost(typeof value === "number" ? value : null)}
          />
        </Group>
        <HoursFields hours={takes.hours ?? []} zone={takes.zone ?? fleetZone()} change={change} />
        <Rota takes={takes} change={change} />
        <Group gap="md">
          <Button type="submit" variant="filled" disabled={isBusy}>
            Keep this
          </Button>
          <Button onClick={done}>Leave it</Button>
        </Group>
        {error !== null && <Trouble error={error} />}
      </Stack>
    </form>
  );
}

function HoursFields({
  hours,
  zone,
  change,
}: {
  hours: Hours[];
  zone: string;
  change: (part: Partial<Takes>) => void;
}) {
  const put = (i: number, part: Partial<Hours>) =>
    change({ hours: hours.map((h, k) => (k === i ? { ...h, ...part } : h)) });
  return (
    <Fieldset variant="unstyled">
      <legend className="small soft">Hours of watch, by the clock of {zone}; none: always</legend>
      {hours.map((h, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: rows are told apart by their place alone
        <Group key={i} align="end" gap="sm" mt={4}>
          <MultiSelect
            aria-label={`Days of hours ${i + 1}`}
            data={DAY_CHOICES}
            value={h.days.map(String)}
            onChange={(days) => put(i, { days: days.map(Number).sort() })}
            w={360}
          />
          <TextInput
            label="from"
            type="time"
            required
            value={h.opens}
            onChange={(event) => put(i, { opens: event.currentTarget.value })}
          />
          <TextInput
            label="to"
            type="time"
            required
            value={h.closes}
            onChange={(event) => put(i, { closes: event.currentTarget.value })}
          />
          <Button onClick={() => change({ hours: hours.filter((_, k) => k !== i) })}>Take away</Button>
        </Group>
      ))}
      <p className="tight">
        <Button onClick={() => change({ hours: [...hours, EVENING] })}>Add hours</Button>
      </p>
    </Fieldset>
  );
}

/** A kept calendar of who is on watch: what lasts is sent to whoever takes over. */
function Rota({ takes, change }: { takes: Takes; change: (part: Partial<Takes>) => void }) {
  const calendars = useQuery({
    queryKey: ["calendars"],
    queryFn: () => list(api.GET("/api/v1/calendars")),
  });
  if (!calendars.data?.length && !takes.calendar) return null;
  return (
    <Group grow align="start">
      <Select
        label="Only while an event is on in"
        description="a kept calendar of who is on watch"
        clearable
        data={(calendars.data ?? []).map((c) => c.name)}
        value={takes.calendar || null}
        onChange={(value) => change({ calendar: value ?? "" })}
      />
      <TextInput
        label="Whose name holds"
        description="empty: any event"
        placeholder="Orla"
        disabled={!takes.calendar}
        value={takes.who ?? ""}
        onChange={(event) => change({ who: event.currentTarget.value })}
      />
    </Group>
  );
}
