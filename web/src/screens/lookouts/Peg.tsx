import { Group } from "@mantine/core";
import type { ReactNode } from "react";
import { STATE_WORDS, type State } from "./words";

const COLOUR: Partial<Record<State, string>> = {
  adrift: "var(--above)",
  failing: "var(--above)",
  silent: "var(--shift)",
};

/** A stream as a peg: its state by shape as well as by colour. */
export function Peg({ state }: { state: State }) {
  return (
    <svg
      width="14"
      height="14"
      viewBox="0 0 14 14"
      stroke="currentColor"
      strokeWidth="1.5"
      color={COLOUR[state]}
      aria-hidden="true"
    >
      {state === "steady" && <circle cx="7" cy="7" r="4.5" fill="none" />}
      {state === "adrift" && <path d="M7 1.5 13 12.5H1Z" fill="currentColor" />}
      {state === "silent" && <path d="M2 7h10" strokeWidth="2.5" />}
      {state === "learning" && <circle cx="7" cy="7" r="4.5" fill="none" strokeDasharray="2 2" />}
      {state === "quiet" && <path d="M2.5 2.5h9v9h-9z" fill="none" />}
      {state === "failing" && <path d="M2.5 2.5l9 9M11.5 2.5l-9 9" strokeWidth="2.5" />}
    </svg>
  );
}

/** A state with its peg, and what the state means when one points at it. */
export function PegWords({ state, children = state }: { state: State; children?: ReactNode }) {
  return (
    <Group component="span" gap={5} mr={16} display="inline-flex" title={STATE_WORDS[state]}>
      <Peg state={state} /> {children}
    </Group>
  );
}
