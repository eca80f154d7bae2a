import { Box, Checkbox } from "@mantine/core";
import { useMemo, useState } from "react";
import { endsOf } from "../../charts/drawing";
import { type Column, type Range, TimePane } from "../../charts/TimePane";
import { hours } from "../../parts/words";
import { FoldHead } from "./FoldHead";
import { PaneLabel } from "./PaneLabel";
import type { PaneProps, StackProps } from "./types";
import workbenchCss from "./workbench.module.css";

const HEIGHT = 84;
const MARGIN = 0.06;

/** Ranges of one length for several columns, each around its own middle: a small part looks small. */
export function evenBounds(columns: Column[]): (Range | undefined)[] {
  const ends = columns.map(endsOf);
  const longest = Math.max(...ends.map((e) => (e ? e[1] - e[0] : 0)), 0);
  if (longest === 0) return columns.map(() => undefined);
  const half = longest * (0.5 + MARGIN);
  return ends.map((e) => (e ? [(e[0] + e[1]) / 2 - half, (e[0] + e[1]) / 2 + half] : undefined));
}

/** Trend, seasons and remainder, a pane each, on scales of one length unless each is to have its own. */
export function Components({ view, stream, address, change, pane }: StackProps & { pane: PaneProps }) {
  const { hasParts } = address;
  const [isOwn, setOwn] = useState(false);
  const [from, to] = pane.range;
  const parts = useMemo(() => {
    if (!hasParts || !view.trend) return [];
    const remainder = view.value.map((v, i) =>
      v === null || view.expected?.[i] == null ? null : v - (view.expected[i] ?? 0),
    );
    return [
      { name: "trend", data: view.trend },
      ...(view.seasons ?? []).map((data, i) => ({
        name: `season of ${hours(view.season_hours?.[i] ?? 0)}`,
        data,
      })),
      { name: "remainder", data: remainder },
    ].map((p) => ({ ...p, lines: [{ data: p.data, stroke: "ink" as const, width: 1.1 }] }));
  }, [hasParts, view]);
  const bounds = useMemo(() => {
    const inSight = (data: Column) =>
      data.filter((_, i) => (view.time[i] ?? 0) >= from && (view.time[i] ?? 0) <= to);
    return isOwn ? [] : evenBounds(parts.map((p) => inSight(p.data)));
  }, [parts, isOwn, view.time, from, to]);
  const names = ["trend", ...(view.season_hours ?? []).map((h) => hours(h)), "remainder"].join(", ");
  return (
    <>
      <FoldHead
        name="Components"
        isOpen={hasParts}
        setOpen={(open) => change({ hasParts: open })}
        words={`${names}; they add up to what was seen`}
      />
      {parts.length > 0 && (
        <Checkbox
          m="0 0 4px 56px"
          size="xs"
          label="each on its own scale"
          checked={isOwn}
          onChange={(e) => setOwn(e.currentTarget.checked)}
        />
      )}
      {parts.map((p, i) => (
        <Box mt={14} className={`${workbenchCss.pane} part`} key={p.name}>
          <PaneLabel>
            {p.name}
            {stream.unit && `, ${stream.unit}`}
          </PaneLabel>
          <TimePane
            {...pane}
            lines={p.lines}
            height={HEIGHT}
            bounds={bounds[i]}
            redrawOn={bounds[i]?.join()}
            hasTimeAxis={false}
            label={`${p.name} in ${stream.unit || "units"}`}
          />
          <span />
        </Box>
      ))}
    </>
  );
}
