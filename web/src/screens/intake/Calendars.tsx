import { Box, Button, FileButton, Table, VisuallyHidden } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef } from "react";
import { api, list, type Schema, sendFile } from "../../api/client";
import { TopBar } from "../../frame";
import { Trouble } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { sure } from "../../parts/sure";
import { day, dayTime, plural } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { Tabs } from "./Tabs";

/** Calendars of known days: what they hold, and which days come next. */
export default function Calendars() {
  const client = useQueryClient();
  const reset = useRef<() => void>(null);
  const { report, error, attempt } = useAttempt();
  const calendars = useQuery({ queryKey: ["calendars"], queryFn: () => list(api.GET("/api/v1/calendars")) });
  const days = useQuery({
    queryKey: ["calendars", "days"],
    queryFn: () => list(api.GET("/api/v1/calendars/days")),
  });
  const again = () => client.invalidateQueries({ queryKey: ["calendars"] });
  const take = (chosen: File) =>
    attempt(async () => {
      const kept = await sendFile<Schema["Calendar"]>("/api/v1/calendars", chosen, { zone: fleetZone() });
      again();
      return `${kept.name}: ${plural(kept.events ?? 0, "event")} kept.`;
    });
  const remove = (id: number, name: string) =>
    attempt(async () => {
      await api.DELETE("/api/v1/calendars/{id}", { params: { path: { id } } });
      again();
      return `${name} is removed.`;
    });
  return (
    <div className="padded">
      <TopBar>
        <h1>Intake</h1>
      </TopBar>
      <Tabs />
      <h1>Known days</h1>
      <p className="soft">
        Holidays, festivals, works: iCalendar files, with recurring events and zones. A file of the same name
        takes the place of the one before; a calendar that somebody publishes can be fetched as a feed.
      </p>
      {report && <p role="status">{report}</p>}
      {error !== null && <Trouble error={error} />}
      <p>
        <FileButton
          accept=".ics,text/calendar"
          resetRef={reset}
          inputProps={{ "aria-label": "Calendar file" }}
          onChange={(chosen) => {
            if (chosen) void take(chosen);
            reset.current?.();
          }}
        >
          {(props) => (
            <Button {...props} variant="filled">
              Choose a calendar
            </Button>
          )}
        </FileButton>
      </p>
      {Boolean(calendars.data?.length) && (
        <Table className="rows">
          <Table.Thead>
            <Table.Tr>
              <Table.Th>calendar</Table.Th>
              <Table.Th className="figure">events</Table.Th>
              <Table.Th>zone of its dates</Table.Th>
              <Table.Th>changed, {fleetZone()}</Table.Th>
              <Table.Th>
                <VisuallyHidden component="span">remove</VisuallyHidden>
              </Table.Th>
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {calendars.data?.map((c) => (
              <Table.Tr key={c.id}>
                <Table.Td>{c.name}</Table.Td>
                <Table.Td className="figure">{c.events}</Table.Td>
                <Table.Td>{c.zone}</Table.Td>
                <Table.Td className="soft">{dayTime(c.updated_at, fleetZone())}</Table.Td>
                <Table.Td>
                  <Button
                    aria-label={`Remove ${c.name}`}
                    onClick={() =>
                      sure("Remove", c.name, "Scans from now on no longer know its days.", () =>
                        remove(c.id, c.name),
                      )
                    }
                  >
                    Remove
                  </Button>
                </Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      )}
      <Box component="h2" mt={22}>
        From a month ago to a month ahead
      </Box>
      {days.data?.length === 0 && <p className="soft">No known day in these two months.</p>}
      <Table className="rows">
        <Table.Thead>
          <Table.Tr>
            <Table.Th w={190}>from, {fleetZone()}</Table.Th>
            <Table.Th>known day</Table.Th>
            <Table.Th>calendar</Table.Th>
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {days.data?.map((d) => (
            <Table.Tr key={`${d.calendar} ${d.name} ${d.start}`}>
              <Table.Td className="figure" ta="left">
                {d.is_all_day ? day(d.start, fleetZone()) : dayTime(d.start, fleetZone())}
              </Table.Td>
              <Table.Td>{d.name}</Table.Td>
              <Table.Td className="soft">{d.calendar}</Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
    </div>
  );
}
