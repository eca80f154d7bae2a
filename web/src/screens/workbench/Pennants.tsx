import { Box, UnstyledButton } from "@mantine/core";
import type { Finding } from "../../api/client";
import { GUTTER } from "../../charts/paneOptions";
import { AXIS_WIDTH, type Range } from "../../charts/TimePane";
import { findingLabel } from "../../parts/FindingsList";
import workbenchCss from "./workbench.module.css";

/** More than a pane has room for side by side. */
const MOST = 300;

/** The pennants that the chart draws, as things one can point at, focus and open. */
export function Pennants({
  findings,
  range,
  chosen,
  choose,
}: {
  findings: Finding[];
  range: Range;
  chosen: number | null;
  choose: (finding: Finding) => void;
}) {
  const inSight = findings.filter((f) => f.start >= range[0] && f.start <= range[1]);
  // The largest lie on top where they overlap.
  const shown = [...inSight].sort((a, b) => (a.score ?? 0) - (b.score ?? 0)).slice(-MOST);
  return (
    <Box
      pos="absolute"
      top={0}
      right={GUTTER}
      h={0}
      className={`${workbenchCss.pennants} front`}
      style={{ left: AXIS_WIDTH }}
    >
      {shown.map((f) => (
        <UnstyledButton
          key={f.id}
          pos="absolute"
          top={2}
          w={24}
          h={26}
          ml={-8}
          style={{ left: `${(100 * (f.start - range[0])) / (range[1] - range[0])}%` }}
          aria-label={findingLabel(f)}
          aria-pressed={f.id === chosen}
          onClick={() => choose(f)}
        />
      ))}
    </Box>
  );
}
