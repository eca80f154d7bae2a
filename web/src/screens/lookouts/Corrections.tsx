import { Box, Table } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, list, type Schema } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { clock, day, dayTime, figure, plural, zoneName } from "../../parts/words";
import { fleetZone } from "../../parts/zones";

type Correction = Schema["Correction"];
type Found = Schema["Found"];
const MOST = 20;
/** Findings that are named; the rest are counted. */
const SHOWN = 3;
const LOOK_AGAIN_MS = 15_000;

/** History that was corrected behind what this lookout had judged, and what that changed; nothing where there was none. */
export function Corrections({ lookout }: { lookout: number }) {
  const found = useQuery({
    queryKey: ["lookouts", lookout, "corrections"],
    queryFn: () =>
      list(
        api.GET("/api/v1/lookouts/{id}/corrections", {
          params: { path: { id: lookout }, query: { limit: MOST } },
        }),
      ),
    refetchInterval: LOOK_AGAIN_MS,
  });
  if (found.isError) return <Trouble error={found.error} retry={() => found.refetch()} />;
  if (!found.data?.length) return null;
  return (
    <Box aria-label="Corrected history" component="section" mt={22}>
      <h2>
        Corrected history <span className="soft small plain">judged anew; nothing of it was sent</span>
      </h2>
      <Table className="rows">
        <Table.Thead>
          <Table.Tr>
            <Table.Th>when, {fleetZone()}</Table.Th>
            <Table.Th>stream</Table.Th>
            <Table.Th>why</Table.Th>
            <Table.Th>what it changed</Table.Th>
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {found.data.map((c) => (
            <Table.Tr key={c.id}>
              <Table.Td className="nowrap">{dayTime(c.noted_at, fleetZone())}</Table.Td>
              <Table.Td>
                <Link to={`/workbench/${c.stream}`}>{c.title}</Link> <span className="soft">{c.metric}</span>
              </Table.Td>
              <Table.Td>
                {c.why === "undone" ? `${c.source} was taken back` : `${c.source} brought earlier samples`},
                from {dayTime(c.since, c.zone)} {zoneName(c.since, c.zone)} on
              </Table.Td>
              <Table.Td>
                <Changes of={c} />
              </Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
    </Box>
  );
}

function Changes({ of: c }: { of: Correction }) {
  if (c.judged_at === null) return <span className="soft">is being judged anew</span>;
  const parts: [string, string[]][] = [
    ["no more", c.gone.map((f) => words(f, c.zone))],
    ["new", c.come.map((f) => words(f, c.zone))],
    ["other than before", c.changed.map((p) => `${words(p.now, c.zone)}, was ${words(p.before, c.zone)}`)],
  ];
  const some = parts.filter(([, findings]) => findings.length);
  if (!some.length) return <>No finding differs.</>;
  return (
    <>
      {some.map(([what, findings]) => (
        <div key={what}>
          <strong>
            {plural(findings.length, "finding")} {what}:
          </strong>{" "}
          {findings.slice(0, SHOWN).join("; ")}
          {findings.length > SHOWN && `; and ${findings.length - SHOWN} more`}
        </div>
      ))}
    </>
  );
}

/** Since when and until when, how large and on which side. */
function words(f: Found, zone: string): string {
  const isOneDay = day(f.start, zone) === day(f.end, zone);
  const end = isOneDay ? clock(f.end, zone) : dayTime(f.end, zone);
  const size = f.score === null ? "" : `, ${figure(f.score, 1)} σ`;
  return `${dayTime(f.start, zone)} to ${end}${size} ${f.direction || "without a side"}`;
}
