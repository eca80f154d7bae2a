import { Box } from "@mantine/core";
import type { ReactNode } from "react";

/** What a pane shows, over the upper left of its scale. isLine : of what has no pane, a line of words. */
export function PaneLabel({ isLine = false, children }: { isLine?: boolean; children: ReactNode }) {
  if (isLine) return <span className="pane-label soft small">{children}</span>;
  return (
    <Box
      component="span"
      pos="absolute"
      left={2}
      top={-10}
      pr={5}
      fz={12}
      bg="var(--paper)"
      className="pane-label soft front"
    >
      {children}
    </Box>
  );
}
