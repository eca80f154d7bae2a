import { Box, Group, UnstyledButton } from "@mantine/core";
import { useQueries } from "@tanstack/react-query";
import { useMemo } from "react";
import { api, type ChartWindow, get, type TideRow } from "../../api/client";
import { drawBand, drawFindings, drawGaps, endsOf, OVERLAY_DASHES } from "../../charts/drawing";
import { UNDER_PLOT } from "../../charts/paneOptions";
import { type Line, type Range, TimePane } from "../../charts/TimePane";
import { SelectField } from "../../parts/Field";
import { StreamSelect } from "../../parts/StreamSelect";
import { useStreamsOf } from "../../parts/streams";
import { day } from "../../parts/words";
import { PaneLabel } from "./PaneLabel";
import type { OthersChoice, StreamFacts } from "./types";
import workbenchCss from "./workbench.module.css";

type PaneProps = Pick<
  Parameters<typeof TimePane>[0],
  "range" | "zone" | "tickWords" | "onRange" | "onSpan" | "onCursor"
>;

interface OtherStream {
  row: TideRow;
  view?: ChartWindow;
}

/** The other streams that are to be seen beside this one, each by its own standing scan. */
export function useOthers(ids: number[], range: Range): OtherStream[] {
  const tide = useStreamsOf(ids);
  const rows = tide.data?.rows ?? [];
  const shown = ids.flatMap((id) => rows.filter((r) => r.id === id));
  const [from, to] = range;
  const span = (to - from) / 2;
  const a = Math.floor((from - span) / span) * span;
  const b = Math.ceil((to + span) / span) * span;
  const windows = useQueries({
    queries: shown.map((r) => ({
      queryKey: ["window", r.scan, r.id, a, b, 3000, false],
      queryFn: () =>
        r.scan === null
          ? get(
              api.GET("/api/v1/streams/{id}/samples", {
                params: { path: { id: r.id }, query: { from: a, to: b, points: 3000 } },
              }),
            )
          : get(
              api.GET("/api/v1/scans/{id}/streams/{stream}/window", {
                params: { path: { id: r.scan, stream: r.id }, query: { from: a, to: b, points: 3000 } },
              }),
            ),
    })),
  });
  return shown.map((row, i) => ({ row, view: windows[i]?.data }));
}

/** Other streams beside this one on the same axis: below it, or their names where they are laid over it. */
export function Others({
  stream,
  bounds,
  choice,
  streams,
  pane,
  onChange,
}: {
  stream: StreamFacts;
  /** One range for all of them, where they are on one scale. */
  bounds?: Range;
  choice: OthersChoice;
  streams: OtherStream[];
  pane: PaneProps;
  onChange: (choice: OthersChoice) => void;
}) {
  const { ids, isCommon, isOver } = choice;
  return (
    <div>
      {streams.map(({ row: r, view }, i) => (
        <Box
          key={r.id}
          className={isOver ? "over-name" : `${workbenchCss.pane} part`}
          ml={isOver ? 56 : 0}
          mt={isOver ? 0 : 14}
        >
          <PaneLabel isLine={isOver}>
            {isOver && <Dash dash={OVERLAY_DASHES[i % OVERLAY_DASHES.length] ?? []} />}
            {r.metric} · {r.title}, {r.unit || "value"}{" "}
            <UnstyledButton
              className="word"
              aria-label={`Take ${r.metric} ${r.title} out of the view`}
              onClick={() => onChange({ ...choice, ids: ids.filter((id) => id !== r.id) })}
            >
              take out
            </UnstyledButton>
          </PaneLabel>
          {view && !isOver && (
            <OtherPane
              view={view}
              pane={pane}
              bounds={bounds}
              label={`${r.metric} ${r.title}`}
              badSide={r.bad_side}
            />
          )}
          <span />
        </Box>
      ))}
      <Box component="p" {...UNDER_PLOT} my={4} className="soft small">
        {ids.length < 4 && (
          <Group component="span" display="inline-flex" gap={8} wrap="nowrap" w={270}>
            Beside it
            <StreamSelect
              label="Beside it, another stream"
              placeholder="another stream …"
              words={stream.metric}
              without={[stream.id, ...ids]}
              onTake={(row) => onChange({ ...choice, ids: [...ids, row.id] })}
            />
          </Group>
        )}
        {ids.length > 0 && (
          <>
            {" "}
            <SelectField
              className="word"
              aria-label="Where the other streams are drawn"
              value={isOver ? "over" : "below"}
              onChange={(e) => onChange({ ...choice, isOver: e.target.value === "over" })}
            >
              <option value="below">below it</option>
              <option value="over">over it</option>
            </SelectField>
            ,{" "}
            <SelectField
              className="word"
              aria-label="Scale of the other streams"
              value={isCommon ? "common" : "own"}
              onChange={(e) => onChange({ ...choice, isCommon: e.target.value === "common" })}
            >
              <option value="own">each on its own scale</option>
              <option value="common">all on one scale</option>
            </SelectField>
          </>
        )}
      </Box>
    </div>
  );
}

function Dash({ dash }: { dash: number[] }) {
  return (
    <svg width="34" height="8" aria-hidden="true">
      <path d="M0 4H34" stroke="var(--line)" strokeWidth="1.6" strokeDasharray={dash.join(" ")} />
    </svg>
  );
}

function OtherPane({
  view,
  pane,
  bounds,
  label,
  badSide,
}: {
  view: ChartWindow;
  pane: PaneProps;
  bounds?: Range;
  label: string;
  badSide: string;
}) {
  const lines = useMemo<Line[]>(
    () => [
      ...(view.expected ? [{ data: view.expected, stroke: "line" as const, width: 1, dash: [4, 4] }] : []),
      { data: view.value, stroke: "ink" as const, width: 1.1 },
    ],
    [view],
  );
  const levels = { above: view.level_above ?? null, below: view.level_below ?? null };
  return (
    <TimePane
      {...pane}
      time={view.time}
      lines={lines}
      height={124}
      bounds={bounds}
      hasTimeAxis={false}
      label={`${label} from ${day(pane.range[0], pane.zone)} to ${day(pane.range[1], pane.zone)}`}
      redrawOn={`${bounds?.join()} ${view.findings?.length}`}
      under={(u, c) => {
        drawGaps(u, c, view);
        if (view.expected) drawBand(u, c, view, levels);
      }}
      over={(u, c) => drawFindings(u, c, view.findings ?? [], null, badSide)}
    />
  );
}

/** One vertical range for all of them, with a margin. */
export function boundsOf(views: Pick<ChartWindow, "value">[]): Range | undefined {
  const ends = endsOf(views.flatMap((v) => v.value));
  if (!ends) return undefined;
  const [low, high] = ends;
  const margin = (high - low || Math.abs(high) || 1) * 0.06;
  return [low - margin, high + margin];
}
