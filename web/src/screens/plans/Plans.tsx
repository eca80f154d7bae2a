import { Box, Table } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { api, get, list, type Schema } from "../../api/client";
import { TopBar } from "../../frame";
import { Trouble, Waiting } from "../../parts/ask";
import { SideBySide } from "../../parts/SideBySide";
import { dayTime, figure, plural } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { Changes } from "../workbench/Changes";

/** All plans by name: how many versions each has, and for how many streams it stands. */
export default function Plans() {
  const pk = Number(useParams().plan) || null;
  const plans = useQuery({ queryKey: ["plans"], queryFn: () => list(api.GET("/api/v1/plans")) });
  const chosen = plans.data?.find((p) => p.id === pk);
  return (
    <div className="padded">
      <TopBar>
        {pk !== null && (
          <Link to="/plans" className="soft">
            Plans
          </Link>
        )}
        <h1>{chosen?.name ?? "Plans"}</h1>
        <span className="soft">
          {chosen
            ? `${plural(chosen.versions, "version")}, stands for ${plural(chosen.stands_for, "stream")}`
            : "how streams are scanned: versions, what each changed, where they stand"}
        </span>
      </TopBar>
      {plans.isPending && <Waiting what="Reading the plans" />}
      {plans.isError && <Trouble error={plans.error} retry={() => plans.refetch()} />}
      {pk !== null ? <Plan pk={pk} /> : plans.data && <PlanTable plans={plans.data} />}
    </div>
  );
}

function PlanTable({ plans }: { plans: Schema["PlanList"][] }) {
  if (!plans.length)
    return (
      <div className="empty">
        <h2>No plan yet</h2>
        <p>
          A plan is made with the first scan. <Link to="/intake">Bring in a file</Link> and scan it.
        </p>
      </div>
    );
  return (
    <Table className="rows" maw={760}>
      <Table.Thead>
        <Table.Tr>
          <Table.Th>plan</Table.Th>
          <Table.Th className="right">versions</Table.Th>
          <Table.Th className="right">stands for streams</Table.Th>
        </Table.Tr>
      </Table.Thead>
      <Table.Tbody>
        {plans.map((p) => (
          <Table.Tr key={p.id}>
            <Table.Td>
              <Link to={`/plans/${p.id}`}>{p.name}</Link>
            </Table.Td>
            <Table.Td className="figure right">{p.versions}</Table.Td>
            <Table.Td className="figure right">{figure(p.stands_for)}</Table.Td>
          </Table.Tr>
        ))}
      </Table.Tbody>
    </Table>
  );
}

/** One plan: its versions with what each changed, and the streams it stands for. */
function Plan({ pk }: { pk: number }) {
  const versions = useQuery({
    queryKey: ["versions", pk],
    queryFn: () => list(api.GET("/api/v1/plans/{id}/versions", { params: { path: { id: pk } } })),
  });
  const uses = useQuery({
    queryKey: ["plan-uses", pk],
    queryFn: () => get(api.GET("/api/v1/plans/{id}/uses", { params: { path: { id: pk } } })),
  });
  return (
    <SideBySide of="minmax(0, 2fr) minmax(0, 1fr)" gap={32}>
      <section aria-label="Versions" className="versions">
        <h2>Versions</h2>
        {versions.isPending && <Waiting what="Reading the versions" />}
        {versions.isError && <Trouble error={versions.error} retry={() => versions.refetch()} />}
        <ol>
          {versions.data?.map((v, i) => (
            <li key={v.id}>
              <p>
                <strong>v{v.number}</strong>{" "}
                <span className="soft small">
                  {dayTime(v.created_at, fleetZone())} ({fleetZone()}){v.author && ` by ${v.author}`},{" "}
                  {plural(v.scans, "scan")},{" "}
                  {v.stands_for ? `stands for ${plural(v.stands_for, "stream")}` : "stands for none"}
                </span>
              </p>
              {v.changes.length > 0 && <Changes lines={v.changes} />}
              {(i === 0 || !v.changes.length) && (
                <Box component="pre" fz={12} m="2px 0" className="changes prewrap figure">
                  {v.text}
                </Box>
              )}
            </li>
          ))}
        </ol>
      </section>
      <section aria-label="Where it stands">
        <h2>Where it stands</h2>
        {uses.isPending && <Waiting what="Reading where it stands" />}
        {uses.isError && <Trouble error={uses.error} retry={() => uses.refetch()} />}
        {uses.data?.items.length === 0 && <p className="soft">For no stream: its scans are trials.</p>}
        <ul className="plain">
          {uses.data?.items.map((u) => (
            <li key={u.stream}>
              <Link to={`/workbench/${u.stream}`}>{u.title}</Link> <span className="soft">{u.metric}</span>{" "}
              <span className="soft small">v{u.version}</span>
            </li>
          ))}
        </ul>
        {uses.data?.next && (
          <p className="soft small">The first {uses.data.items.length}; REST has all of them.</p>
        )}
      </section>
    </SideBySide>
  );
}
