import { Table, Text } from "@mantine/core";
import { figure, plural } from "../../parts/words";
import type { Effect } from "./rules";

const MOST_ROWS = 60;

/** What rules would make of the last hour's series: how many streams before and after, and which are put together. */
export function IdentityEffect({ effect }: { effect: Effect }) {
  if (effect.messages === 0)
    return (
      <p className="soft" role="status">
        Nothing was pushed or fetched within the last hour: there is nothing to try the rules on.
      </p>
    );
  const changed = effect.streams.filter((s) => s.is_merged || s.is_new);
  return (
    <section aria-label="What the rules would do">
      <p role="status">
        Of the last hour's {plural(effect.messages, "message")}
        {effect.is_part ? " (the newest of them)" : ""}: <strong>{plural(effect.before, "stream")}</strong> by
        the rules in force, <strong>{figure(effect.after)}</strong> by these.{" "}
        {effect.merged > 0
          ? `${plural(effect.merged, "stream")} would combine several.`
          : "No streams would be combined."}
      </p>
      {effect.problems.map((words) => (
        <div key={words} className="alarm" role="alert">
          {words}
        </div>
      ))}
      {changed.length > 0 && (
        <Table.ScrollContainer minWidth={640}>
          <Table className="rows">
            <Table.Thead>
              <Table.Tr>
                <Table.Th>stream by these rules</Table.Th>
                <Table.Th className="figure">sources</Table.Th>
                <Table.Th>streams before</Table.Th>
              </Table.Tr>
            </Table.Thead>
            <Table.Tbody>
              {changed.slice(0, MOST_ROWS).map((s) => (
                <Table.Tr key={s.key}>
                  <Table.Td className="breaks">{spaced(s.key)}</Table.Td>
                  <Table.Td className="figure">{figure(s.source_count)}</Table.Td>
                  <Table.Td>
                    {s.was.slice(0, 4).map((key) => (
                      <Text key={key} size="sm" className="breaks">
                        {spaced(key)}
                      </Text>
                    ))}
                    {s.was.length > 4 && <Text size="sm">and {figure(s.was.length - 4)} more</Text>}
                  </Table.Td>
                </Table.Tr>
              ))}
            </Table.Tbody>
          </Table>
        </Table.ScrollContainer>
      )}
      {changed.length > MOST_ROWS && <p className="soft">and {figure(changed.length - MOST_ROWS)} more</p>}
    </section>
  );
}

/** A key with a blank behind each comma, so that it can break there. */
const spaced = (key: string) => key.replaceAll(",", ", ");
