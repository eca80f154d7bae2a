import { Box, Group } from "@mantine/core";
import type { ReactNode } from "react";
import { Trouble, Waiting } from "../../parts/ask";

interface Props {
  title: string;
  /** What there is, in a few words. */
  sum?: string;
  action?: ReactNode;
  isPending?: boolean;
  error?: unknown;
  children?: ReactNode;
}

/** One part of the settings: a title with a sentence and an action, and what it is about. */
export function Section({ title, sum, action, isPending, error, children }: Props) {
  return (
    <Box component="section" m="4px 0 26px" miw={0} className="scrolls" aria-label={title}>
      <Group component="header" gap="4px 14px" pb={7} mb={2} align="baseline" className="under">
        <h2>{title}</h2>
        <span className="soft small filler">{sum}</span>
        {action}
      </Group>
      {isPending && <Waiting what={`Reading: ${title.toLowerCase()}`} />}
      {error !== null && error !== undefined && <Trouble error={error} />}
      {children}
    </Box>
  );
}
