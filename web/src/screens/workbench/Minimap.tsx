import { Box } from "@mantine/core";
import { useMemo } from "react";
import type { ChartWindow } from "../../api/client";
import { UNDER_PLOT } from "../../charts/paneOptions";
import { pathOf } from "../../charts/path";
import type { Range } from "../../charts/TimePane";

/** The whole stream in one strip, with what is in sight; a press moves there. */
export function Minimap({
  overview,
  whole,
  range,
  setRange,
}: {
  overview: ChartWindow;
  whole: Range;
  range: Range;
  setRange: (r: Range) => void;
}) {
  const path = useMemo(() => {
    const seen = overview.value.filter((v): v is number => v !== null);
    const low = Math.min(...seen);
    const high = Math.max(...seen);
    return pathOf(
      overview.value,
      (i) => (((overview.time[i] ?? 0) - whole[0]) / (whole[1] - whole[0])) * 1000,
      (v) => 34 - ((v - low) / (high - low || 1)) * 30,
    );
  }, [overview, whole]);
  const x = (ms: number) => ((ms - whole[0]) / (whole[1] - whole[0])) * 100;
  const move = (event: React.PointerEvent<HTMLDivElement>) => {
    if (event.type === "pointermove" && !event.buttons) return;
    const box = event.currentTarget.getBoundingClientRect();
    const at = whole[0] + ((event.clientX - box.left) / box.width) * (whole[1] - whole[0]);
    const half = (range[1] - range[0]) / 2;
    setRange([at - half, at + half]);
  };
  return (
    <Box
      pos="relative"
      h={36}
      {...UNDER_PLOT}
      mt={6}
      className="drags ruled"
      onPointerDown={move}
      onPointerMove={move}
      title="The whole stream; press to go there"
    >
      <svg className="fill" viewBox="0 0 1000 36" preserveAspectRatio="none" aria-hidden="true">
        <path d={path} fill="none" stroke="var(--line)" strokeWidth="1" vectorEffect="non-scaling-stroke" />
      </svg>
      <div className="window" style={{ left: `${x(range[0])}%`, width: `${x(range[1]) - x(range[0])}%` }} />
    </Box>
  );
}
