import { Checkbox, Table, VisuallyHidden } from "@mantine/core";
import type { Entry } from "../../api/client";
import { fleetZone } from "../../parts/zones";
import { EntryRow } from "./EntryRow";

/** Entries, one a row; those ticked can be changed together. */
export function EntryTable({
  rows,
  ticked,
  setTicked,
  onRemove,
  onSaved,
}: {
  rows: Entry[];
  ticked: number[];
  setTicked: (ids: number[]) => void;
  onRemove: (entry: Entry) => void;
  onSaved: () => void;
}) {
  const turn = (id: number) =>
    setTicked(ticked.includes(id) ? ticked.filter((other) => other !== id) : [...ticked, id]);
  return (
    <Table className="rows">
      <Table.Thead>
        <Table.Tr>
          <Table.Th>
            <Checkbox
              size="xs"
              aria-label="Tick all that are shown"
              checked={ticked.length === rows.length}
              onChange={() => setTicked(ticked.length === rows.length ? [] : rows.map((e) => e.id))}
            />
          </Table.Th>
          <Table.Th>verdict</Table.Th>
          <Table.Th>from, {fleetZone()}</Table.Th>
          <Table.Th>to</Table.Th>
          <Table.Th>over</Table.Th>
          <Table.Th>kind</Table.Th>
          <Table.Th>cause</Table.Th>
          <Table.Th>author</Table.Th>
          <Table.Th>
            <VisuallyHidden component="span">acts</VisuallyHidden>
          </Table.Th>
        </Table.Tr>
      </Table.Thead>
      <Table.Tbody>
        {rows.map((e) => (
          <EntryRow
            key={e.id}
            entry={e}
            isTicked={ticked.includes(e.id)}
            onTick={() => turn(e.id)}
            onRemove={() => onRemove(e)}
            onSaved={onSaved}
          />
        ))}
      </Table.Tbody>
    </Table>
  );
}
