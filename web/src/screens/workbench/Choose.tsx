import { Table, TextInput } from "@mantine/core";
import { useState } from "react";
import { Link, Navigate } from "react-router";
import { TopBar } from "../../frame";
import { Trouble, Waiting } from "../../parts/ask";
import { useStreams } from "../../parts/streams";
import { figure, plural } from "../../parts/words";

const MOST_SHOWN = 40;

/** The workbench without a stream: the last one, or a choice by words, those with the strongest open findings first. */
export default function Choose() {
  const [text, setText] = useState("");
  const tide = useStreams(text, { count: MOST_SHOWN, sort: "strongest" });
  const last = sessionStorage.getItem("last-stream");
  if (last) return <Navigate to={`/workbench/${last}`} replace />;
  const { rows: found = [], total = 0 } = tide.data ?? {};
  return (
    <div className="padded">
      <TopBar>
        <h1>Workbench</h1>
        <span className="soft">one stream, its plan and its findings</span>
      </TopBar>
      <TextInput
        label="Which stream?"
        placeholder="gate_taps Northquay adult"
        value={text}
        onChange={(e) => setText(e.currentTarget.value)}
        maw={420}
        data-autofocus
      />
      {tide.isPending && <Waiting what="Reading the streams" />}
      {tide.isError && <Trouble error={tide.error} retry={() => tide.refetch()} />}
      {tide.data && (
        <Table className="rows" maw={900}>
          <Table.Thead>
            <Table.Tr>
              <Table.Th>stream</Table.Th>
              <Table.Th>metric</Table.Th>
              <Table.Th>state</Table.Th>
              <Table.Th className="figure">open findings</Table.Th>
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {found.map((row) => (
              <Table.Tr key={row.id}>
                <Table.Td>
                  <Link to={`/workbench/${row.id}`}>{row.title}</Link>
                </Table.Td>
                <Table.Td className="soft">{row.metric}</Table.Td>
                <Table.Td>{row.state}</Table.Td>
                <Table.Td className="figure">
                  {row.open ? `${figure(row.open)}, up to ${figure(row.strongest, 1)} σ` : ""}
                </Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      )}
      {tide.data && found.length === 0 && <p className="soft">No stream has all these words.</p>}
      {total > found.length && (
        <p className="soft small">
          and {plural(total - found.length, "more", "more")}: type a word of the name
        </p>
      )}
    </div>
  );
}
