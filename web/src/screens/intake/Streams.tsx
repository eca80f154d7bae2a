import { Button, Group, Table, UnstyledButton, VisuallyHidden } from "@mantine/core";
import { keepPreviousData, useInfiniteQuery, useQueryClient } from "@tanstack/react-query";
import { Fragment, useState } from "react";
import { Link } from "react-router";
import { api, get } from "../../api/client";
import { TopBar } from "../../frame";
import { useAddress, withNames } from "../../parts/address";
import { Trouble, Waiting } from "../../parts/ask";
import { FilterField } from "../../parts/FilterField";
import { dayTime, figure, plural } from "../../parts/words";
import { StreamFacts } from "./StreamFacts";
import { Tabs } from "./Tabs";

/** The catalogue: find a stream by name and attribute, see what is known of it, change or delete it. */
export default function Streams() {
  const client = useQueryClient();
  const [params, setAddress] = useAddress();
  const [told, setTold] = useState("");
  const q = params.get("q") ?? "";
  const open = Number(params.get("open")) || null;
  const found = useInfiniteQuery({
    queryKey: ["catalogue", q],
    queryFn: ({ pageParam }) =>
      get(
        api.GET("/api/v1/catalogue", {
          params: { query: { q: q || undefined, cursor: pageParam || undefined } },
        }),
      ),
    initialPageParam: "",
    getNextPageParam: (page) => page.next,
    placeholderData: keepPreviousData,
  });
  const set = (name: string, value: string) =>
    setAddress((old) => withNames(old, { [name]: value }), { replace: true });
  const done = (words: string) => {
    setTold(words);
    client.invalidateQueries({ queryKey: ["catalogue"] });
    client.invalidateQueries({ queryKey: ["tide"] });
  };
  const rows = found.data?.pages.flatMap((p) => p.items) ?? [];
  const total = found.data?.pages[0]?.total ?? 0;
  return (
    <div className="padded">
      <TopBar>
        <h1>Intake</h1>
        <span className="soft">{plural(total, "stream")}</span>
      </TopBar>
      <Tabs />
      <Group gap={18} mb={8}>
        <FilterField
          label="Find streams"
          hint="gate_taps fare=adult"
          value={q}
          onChange={(text) => set("q", text)}
        />
        <span className="soft small">words of the name, owner or family; name=value for an attribute</span>
      </Group>
      {told && <p role="status">{told}</p>}
      {found.isPending && <Waiting what="Looking the streams up" />}
      {found.isError && <Trouble error={found.error} retry={() => found.refetch()} />}
      {found.data && rows.length === 0 && (
        <p className="soft">
          {q ? "No stream is called that." : "There are no streams yet. Bring in a file, or push some."}
        </p>
      )}
      {rows.length > 0 && (
        <Table className="rows">
          <Table.Thead>
            <Table.Tr>
              <Table.Th>stream</Table.Th>
              <Table.Th>metric</Table.Th>
              <Table.Th>unit</Table.Th>
              <Table.Th className="figure">every</Table.Th>
              <Table.Th className="figure">samples</Table.Th>
              <Table.Th>latest</Table.Th>
              <Table.Th className="figure">usually late by</Table.Th>
              <Table.Th>owner</Table.Th>
              <Table.Th>
                <VisuallyHidden component="span">open</VisuallyHidden>
              </Table.Th>
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {rows.map((s) => (
              <Fragment key={s.id}>
                <Table.Tr>
                  <Table.Td>
                    <UnstyledButton
                      className="word"
                      aria-expanded={open === s.id}
                      onClick={() => set("open", open === s.id ? "" : String(s.id))}
                    >
                      {s.title}
                    </UnstyledButton>
                  </Table.Td>
                  <Table.Td className="soft">{s.metric}</Table.Td>
                  <Table.Td>{s.unit}</Table.Td>
                  <Table.Td className="figure">{s.cadence || "–"}</Table.Td>
                  <Table.Td className="figure">{figure(s.samples)}</Table.Td>
                  <Table.Td className="soft">
                    {s.last === null ? "none yet" : dayTime(s.last, s.zone ?? "UTC")}
                  </Table.Td>
                  <Table.Td className="figure">{late(s.lateness_s)}</Table.Td>
                  <Table.Td>{s.owner}</Table.Td>
                  <Table.Td>
                    <Link
                      className="act"
                      to={`/workbench/${s.id}`}
                      aria-label={`Open ${s.title} in the workbench`}
                    >
                      Open
                    </Link>
                  </Table.Td>
                </Table.Tr>
                {open === s.id && (
                  <Table.Tr>
                    <Table.Td colSpan={9}>
                      <StreamFacts stream={s} onDone={done} />
                    </Table.Td>
                  </Table.Tr>
                )}
              </Fragment>
            ))}
          </Table.Tbody>
        </Table>
      )}
      {found.hasNextPage && (
        <p>
          <Button onClick={() => found.fetchNextPage()}>Show more of the {figure(total)}</Button>
        </p>
      )}
    </div>
  );
}

function late(s: number | null): string {
  if (s === null) return "–";
  return s < 120 ? `${figure(s, 0)} s` : s < 7200 ? `${figure(s / 60, 0)} min` : `${figure(s / 3600, 1)} h`;
}
