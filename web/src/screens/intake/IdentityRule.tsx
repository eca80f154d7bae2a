import {
  Button,
  Group,
  NativeSelect,
  Stack,
  Table,
  TagsInput,
  Text,
  TextInput,
  UnstyledButton,
} from "@mantine/core";
import { useState } from "react";
import { JOINS, type Rule, renamesOf, renamesToText, sentence } from "./rules";

type Props = {
  rule: Rule;
  number: number;
  isLast: boolean;
  names: string[];
  onChange: (rule: Rule) => void;
  onMove: (by: -1 | 1) => void;
  onRemove: () => void;
};

/** One rule as a sentence; its words become fields once it is opened. */
export function IdentityRule({ rule, number, isLast, names, onChange, onMove, onRemove }: Props) {
  const [isOpen, setOpen] = useState(rule.drop.length + rule.keep.length + rule.rename.length === 0);
  return (
    <Table.Tr>
      <Table.Td className="figure soft">{number}</Table.Td>
      <Table.Td>
        <UnstyledButton className="word" aria-expanded={isOpen} onClick={() => setOpen(!isOpen)}>
          {rule.metric === "*" ? "all metrics" : rule.metric}
        </UnstyledButton>
      </Table.Td>
      <Table.Td>
        {isOpen ? (
          <Fields rule={rule} names={names} onChange={onChange} />
        ) : (
          <>
            {sentence(rule)}
            <Text size="sm" className="soft">
              {rule.note}
            </Text>
          </>
        )}
      </Table.Td>
      <Table.Td>
        <Group gap="md" wrap="nowrap">
          <Button disabled={number === 1} onClick={() => onMove(-1)} aria-label={`Move rule ${number} up`}>
            Up
          </Button>
          <Button disabled={isLast} onClick={() => onMove(1)} aria-label={`Move rule ${number} down`}>
            Down
          </Button>
          <Button onClick={onRemove} aria-label={`Remove rule ${number}`}>
            Remove
          </Button>
        </Group>
      </Table.Td>
    </Table.Tr>
  );
}

function Fields({ rule, names, onChange }: Pick<Props, "rule" | "names" | "onChange">) {
  const set = (part: Partial<Rule>) => onChange({ ...rule, ...part });
  return (
    <Stack gap="xs" maw={760}>
      <TextInput
        label="For metrics"
        description="* stands for any characters"
        value={rule.metric}
        onChange={(e) => set({ metric: e.currentTarget.value })}
      />
      <TagsInput
        label="Drop attributes"
        description="what changes without the stream being another: processes, hosts, versions"
        data={names}
        value={rule.drop}
        onChange={(drop) => set({ drop })}
      />
      <TagsInput
        label="Keep attributes"
        description="although a rule further down drops them"
        data={names}
        value={rule.keep}
        onChange={(keep) => set({ keep })}
      />
      <TagsInput
        label="Rename attributes"
        description="as from=to"
        value={renamesToText(rule.rename)}
        onChange={(texts) => set({ rename: renamesOf(texts) })}
      />
      <NativeSelect
        label="Combine several senders by"
        data={JOINS}
        value={rule.join}
        onChange={(e) => set({ join: e.currentTarget.value as Rule["join"] })}
      />
      <TextInput
        label="Why"
        maxLength={300}
        value={rule.note}
        onChange={(e) => set({ note: e.currentTarget.value })}
      />
    </Stack>
  );
}
