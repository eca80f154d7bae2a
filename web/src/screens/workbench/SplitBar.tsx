import { Box } from "@mantine/core";
import type { ChartWindow } from "../../api/client";
import { LaneRow } from "../../charts/LaneRow";
import laneCss from "../../charts/lane.module.css";
import type { Range } from "../../charts/TimePane";

/** What was learnt from: the training part filled, what came after open, validation and locked spans named. */
export function SplitBar({ view, range }: { view: ChartWindow; range: Range }) {
  const split = (view.resolved as { split?: Record<string, [string, string]> } | undefined)?.split ?? {};
  const x = (ms: number) => Math.min(100, Math.max(0, ((ms - range[0]) / (range[1] - range[0])) * 100));
  const until = view.train_until ?? null;
  if (until === null && Object.keys(split).length === 0) return null;
  return (
    <LaneRow name="split">
      <Box h={12} bg="transparent" className={laneCss.spanLane}>
        <Box
          h="100%"
          bg="var(--wash)"
          className="trained"
          style={{ width: `${x(until ?? range[1])}%` }}
          title="training: what the baseline learnt from"
        />
        {Object.entries(split).map(([name, [a, b]]) => (
          <Box
            key={name}
            pos="absolute"
            top={0}
            h="100%"
            bd="1px solid var(--line)"
            bg="var(--paper)"
            fz={11}
            lh="10px"
            pl={4}
            style={{ left: `${x(Date.parse(a))}%`, width: `${x(Date.parse(b)) - x(Date.parse(a))}%` }}
            title={`${name}: never learnt from`}
          >
            {name}
          </Box>
        ))}
      </Box>
    </LaneRow>
  );
}
