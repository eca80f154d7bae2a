import { Group, UnstyledButton } from "@mantine/core";
import { GUTTER } from "../../charts/paneOptions";

/** The head of a part that is folded until it is wanted. */
export function FoldHead({
  name,
  isOpen,
  setOpen,
  words,
}: {
  name: string;
  isOpen: boolean;
  setOpen: (open: boolean) => void;
  words: string;
}) {
  return (
    <Group gap={10} align="baseline" py={5} mt={4} mr={GUTTER} className="ruled">
      <UnstyledButton fw={700} aria-expanded={isOpen} onClick={() => setOpen(!isOpen)}>
        {isOpen ? "▾" : "▸"} {name}
      </UnstyledButton>
      <span className="soft small">{words}</span>
    </Group>
  );
}
