import { Button, Table, TextInput } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, get } from "../../api/client";
import { TopBar } from "../../frame";
import { Trouble, Waiting } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { FormRow } from "../../parts/FormRow";
import { dayTime, plural } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { boardsQuery } from "./query";

/** All boards: panes for people who do not work here, and for a wall. */
export default function Boards() {
  const boards = useQuery(boardsQuery);
  const navigate = useNavigate();
  const [name, setName] = useState("");
  const { error, isBusy, attempt } = useAttempt();
  const make = (event: FormEvent) => {
    event.preventDefault();
    void attempt(async () => {
      const made = await get(api.POST("/api/v1/boards", { body: { name, panes: [] } }));
      navigate(`/boards/${made.id}?arrange=1`);
    });
  };
  return (
    <div className="padded">
      <TopBar>
        <h1>Boards</h1>
        <span className="soft">panes for other people, and for a wall</span>
      </TopBar>
      {boards.isPending && <Waiting what="Reading the boards" />}
      {boards.isError && <Trouble error={boards.error} retry={() => boards.refetch()} />}
      {boards.data?.length === 0 && (
        <div className="empty">
          <h2>There is no board yet</h2>
          <p>
            A board shows streams, findings, incidents or a figure to somebody who never signs in, and stays
            on a wall. Name one and put panes on it; the workbench has <em>Add to a board</em> too.
          </p>
        </div>
      )}
      {boards.data && boards.data.length > 0 && (
        <Table className="rows" maw={900}>
          <Table.Thead>
            <Table.Tr>
              <Table.Th>board</Table.Th>
              <Table.Th>panes</Table.Th>
              <Table.Th>made by</Table.Th>
              <Table.Th>on, {fleetZone()}</Table.Th>
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {boards.data.map((one) => (
              <Table.Tr key={one.id}>
                <Table.Td>
                  <Link to={`/boards/${one.id}`}>{one.name}</Link>
                </Table.Td>
                <Table.Td>{plural((one.panes as unknown[]).length, "pane")}</Table.Td>
                <Table.Td>{one.created_by}</Table.Td>
                <Table.Td className="soft">{dayTime(one.created_at, fleetZone())}</Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      )}
      <FormRow aria-label="New board" onSubmit={make}>
        <TextInput
          label="Name"
          required
          maxLength={120}
          value={name}
          onChange={(event) => setName(event.currentTarget.value)}
        />
        <Button type="submit" variant="filled" disabled={isBusy}>
          Make a board
        </Button>
      </FormRow>
      {error !== null && <Trouble error={error} />}
    </div>
  );
}
