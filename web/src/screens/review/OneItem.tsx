import { Box, Group } from "@mantine/core";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { type MutableRefObject, useMemo, useState } from "react";
import { Link } from "react-router";
import { api, get } from "../../api/client";
import { drawBand, drawFindings, drawFlags, drawGaps, drawSpan } from "../../charts/drawing";
import { type Line, type Range, TimePane } from "../../charts/TimePane";
import { tickWords } from "../../charts/ticks";
import { Trouble } from "../../parts/ask";
import { Mark } from "../../parts/marks";
import { dayTime, duration } from "../../parts/words";
import { linkTo } from "../tide-table/Strongest";
import { Explain } from "../workbench/Explain";
import { LogbookLane } from "../workbench/LogbookLane";
import { Before } from "./Before";
import type { Around, Edges } from "./types";
import { drawnWords, type Item, itemWords } from "./words";

/** A finding, or a span that nobody flagged, in its surroundings; its edges as they stand. */
export function OneItem({
  item,
  edges,
  around,
}: {
  item: Item;
  edges: Edges;
  /** Filled with what the chart knows. */
  around: MutableRefObject<Around>;
}) {
  const finding = item.finding;
  const margin = Math.max(2 * 86_400_000, 1.5 * (item.end - item.start));
  const [range, setRange] = useState<Range>([item.start - margin, item.end + margin]);
  const context = useQuery({
    queryKey: ["finding", finding?.id],
    queryFn: () => get(api.GET("/api/v1/findings/{id}", { params: { path: { id: finding?.id ?? 0 } } })),
    enabled: finding !== null,
  });
  const view = useQuery({
    queryKey: ["window", item.scan, item.stream, range[0], range[1], 4000, false],
    queryFn: () =>
      get(
        api.GET("/api/v1/scans/{id}/streams/{stream}/window", {
          params: {
            path: { id: item.scan, stream: item.stream },
            query: { from: range[0], to: range[1], points: 4000 },
          },
        }),
      ),
    placeholderData: keepPreviousData,
  });
  const lines = useMemo<Line[]>(
    () =>
      view.data
        ? [
            { data: view.data.expected ?? [], stroke: "line", width: 1, dash: [4, 4] },
            { data: view.data.value, stroke: "ink", width: 1.3 },
          ]
        : [],
    [view.data],
  );
  const words = useMemo(() => tickWords(item.zone), [item.zone]);
  const data = view.data;
  around.current = {
    moved: (at, by) => {
      // Along the samples themselves: days are not all of one length. Where the chart holds fewer, by the usual step.
      const times = data?.time ?? [];
      const here = times.findIndex((t) => t >= at);
      const there = times[here + by];
      const usual = at + by * item.step_s * 1000;
      const isNear = there !== undefined && Math.abs(there - usual) <= 3_600_000 && times[here] === at;
      return here >= 0 && isNear ? there : usual;
    },
    nextEnd: (after) =>
      (data?.findings ?? []).filter((f) => f.start > after).sort((a, b) => a.start - b.start)[0]?.end ?? null,
  };
  const levels = { above: data?.level_above ?? null, below: data?.level_below ?? null };
  // A second look must not see the verdict of the first.
  const entries = (item.is_second ? [] : (data?.entries ?? [])).filter((e) => e.verdict !== "reviewed");
  const isMoved = edges.start !== item.start || edges.end !== item.end || edges.cut !== null;
  return (
    <>
      <Group component="header" gap={12} align="baseline">
        <h1>{item.title}</h1>
        <span className="soft">
          {item.metric}
          {item.unit && ` · ${item.unit}`}
        </span>
        <Box component="span" ml="auto" className="soft small">
          {drawnWords(item)}
        </Box>
      </Group>
      <p className="tight">
        {finding && <Mark kind={finding.kind} direction={finding.direction} />} {itemWords(item)}{" "}
        {isMoved && (
          <strong className="edges">
            Your span: {dayTime(edges.start, item.zone)} – {dayTime(edges.end, item.zone)},{" "}
            {duration((edges.end - edges.start) / 1000)}
            {edges.cut !== null &&
              `, cut at ${dayTime(edges.cut, item.zone)}: the verdict is for what lies before`}
            .{" "}
          </strong>
        )}
        {finding && (
          <Link className="act" to={linkTo(finding)}>
            Open in workbench
          </Link>
        )}
      </p>
      {data ? (
        <Box __vars={{ "--gutter": "0px" }} className="review-chart">
          <TimePane
            time={data.time}
            lines={lines}
            range={range}
            onRange={setRange}
            height={262}
            zone={item.zone}
            tickWords={words}
            label={`${item.title} around ${finding ? "the finding" : "the span"}`}
            redrawOn={`${item.id} ${edges.start} ${edges.end} ${edges.cut}`}
            under={(u, c) => {
              drawGaps(u, c, data);
              drawBand(u, c, data, levels);
            }}
            over={(u, c) => {
              drawFlags(u, c, data, (i) => data.value[i] ?? null, levels);
              drawFindings(u, c, data.findings ?? [], null, "both");
              drawSpan(u, c, edges.start, edges.end, edges.cut);
            }}
          />
          <LogbookLane entries={entries} range={range} zone={item.zone} />
        </Box>
      ) : view.isError ? (
        <Trouble error={view.error} retry={() => view.refetch()} />
      ) : (
        <Box h={282} />
      )}
      {finding && context.data && (
        <>
          <Before finding={finding} before={context.data.before} />
          <datalist id="causes">
            {context.data.causes.map((c) => (
              <option key={c} value={c} />
            ))}
          </datalist>
        </>
      )}
      {finding && !item.is_second && <Explain finding={finding.id} zone={item.zone} />}
    </>
  );
}
