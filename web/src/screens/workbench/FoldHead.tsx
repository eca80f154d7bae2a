import { Group, UnstyledButton } from "@mantine/core";

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
    <Group gap={10} align="baseline" py={5} m="4px 108px 0 0" className="ruled">
      <UnstyledButton fw={700} aria-expanded={isOpen} onClick={() => setOpen(!isOpen)}>
        {isOpen ? "▾" : "▸"} {name}
      </UnstyledButton>
      <span className="soft small">{words}</span>
    </Group>
  );
}
