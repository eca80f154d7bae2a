import { UnstyledButton } from "@mantine/core";

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
    <div className="fold">
      <UnstyledButton aria-expanded={isOpen} onClick={() => setOpen(!isOpen)}>
        {isOpen ? "▾" : "▸"} {name}
      </UnstyledButton>
      <span className="soft small">{words}</span>
    </div>
  );
}
