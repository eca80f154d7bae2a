import { Box } from "@mantine/core";
import type { ReactNode } from "react";
import { GUTTER } from "./paneOptions";

/** A lane under the panes, with its name beside it. A chart without room on its right sets --gutter to 0. */
export function LaneRow({ name, children }: { name: string; children: ReactNode }) {
  return (
    <Box pos="relative" mr={`var(--gutter, ${GUTTER}px)`}>
      <Box component="span" pos="absolute" w={52} fz={12} lh="20px" className="soft right">
        {name}
      </Box>
      {children}
    </Box>
  );
}
