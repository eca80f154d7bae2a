import { Box, Title } from "@mantine/core";
import type { ReactNode } from "react";

/** What somebody sees who is not in yet. */
export function Door({ children }: { children: ReactNode }) {
  return (
    <Box component="main" maw={340} m="14vh auto 0" p={20}>
      <Title order={1} fz={34}>
        Watch Tide
      </Title>
      {children}
    </Box>
  );
}
