import { Box, Group, Table } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { api, get, type Schema } from "../../api/client";
import { dayTime, figure, plural, zoneName } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { Section } from "./Section";

/** What takes room, and how much is left. */
export function Storage() {
  const storage = useQuery({ queryKey: ["storage"], queryFn: () => get(api.GET("/api/v1/storage")) });
  const s = storage.data;
  return (
    <Section
      title="Storage"
      sum={s && `disk: ${bytes(s.disk_free_bytes)} of ${bytes(s.disk_total_bytes)} free`}
      isPending={storage.isPending}
      error={storage.error}
    >
      {s && (
        <>
          {s.disk_state !== "fine" && (
            <p className="alarm" role="alert">
              The disk is {s.disk_state}: intake stops below {bytes(s.least_free_bytes)}. Free some room, or
              move the data folder.
            </p>
          )}
          {s.counted_at === null ? (
            <p className="soft">Nothing is counted yet; it is once a minute.</p>
          ) : (
            <>
              <Shares title="Database" parts={s.database} />
              <Shares title="Files" parts={s.files} />
              <p>
                {plural(s.samples, "sample")} of {plural(s.streams, "stream")}. Kept stages stay under{" "}
                {bytes(s.stage_cache_bytes)} and can be deleted at any time. Counted{" "}
                {dayTime(s.counted_at, fleetZone())} {zoneName(Date.now(), fleetZone())}.
              </p>
            </>
          )}
          <p>
            {s.last_backup_at
              ? `Last backup ${dayTime(s.last_backup_at, fleetZone())}, ${bytes(s.last_backup_bytes ?? 0)}.`
              : "No backup was made yet: watchtide server backup FOLDER, while everything runs."}
          </p>
        </>
      )}
    </Section>
  );
}

function Shares({ title, parts }: { title: string; parts: Schema["Part"][] }) {
  const total = parts.reduce((sum, p) => sum + p.bytes, 0);
  const seen = parts.filter((p) => p.bytes > 0);
  return (
    <>
      <div>
        <strong>{title}</strong> <span className="figure">{bytes(total)}</span>
      </div>
      <Group
        gap={1}
        h={12}
        wrap="nowrap"
        align="stretch"
        m="8px 0 6px"
        bd="1px solid var(--line)"
        className="share"
        aria-hidden="true"
      >
        {seen.map((p, i) => (
          <i
            key={p.name}
            style={{ width: `${(100 * p.bytes) / total}%`, opacity: shade(i), background: "var(--ink)" }}
          />
        ))}
      </Group>
      <Table className="rows">
        <Table.Tbody>
          {seen.map((p, i) => (
            <Table.Tr key={p.name}>
              <Table.Td>
                <Box
                  component="i"
                  w={11}
                  h={11}
                  mr={6}
                  bg="var(--ink)"
                  display="inline-block"
                  style={{ opacity: shade(i) }}
                  aria-hidden="true"
                />{" "}
                {NAMES[p.name] ?? p.name}
              </Table.Td>
              <Table.Td className="figure">{bytes(p.bytes)}</Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
    </>
  );
}

/** What the folders of files are for. */
const NAMES: Record<string, string> = {
  stages: "kept stages",
  sheets: "score sheets",
  uploads: "files handed in",
};

/** The largest part is the darkest. */
const shade = (i: number) => 1 - 0.16 * Math.min(i, 5);

/** A size with its unit, decimal. */
export function bytes(n: number): string {
  const units = ["B", "kB", "MB", "GB", "TB"];
  const power = n > 0 ? Math.min(Math.floor(Math.log10(n) / 3), units.length - 1) : 0;
  return `${figure(n / 1000 ** power, power && n < 10 * 1000 ** power ? 1 : 0)}\u2009${units[power]}`;
}
