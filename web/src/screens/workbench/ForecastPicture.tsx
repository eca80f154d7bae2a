import { Group } from "@mantine/core";
import { useMemo } from "react";
import type { ChartWindow } from "../../api/client";
import { drawLimit } from "../../charts/ahead";
import { drawWash } from "../../charts/drawing";
import { UNDER_PLOT } from "../../charts/paneOptions";
import { type Line, type Range, TimePane } from "../../charts/TimePane";
import { tickWords } from "../../charts/ticks";
import { dayTime, figure } from "../../parts/words";
import type { ForecastData } from "./forecastWords";
import { LimitLine } from "./LimitLine";
import { PaneLabel } from "./PaneLabel";
import type { StreamFacts } from "./types";
import workbenchCss from "./workbench.module.css";

const HEIGHT = 240;
const SHARE_HEIGHT = 90;

/** What was seen, then what is expected with its interval; under it, with a limit, the share of futures past it. */
export function ForecastPicture({
  stream,
  past,
  forecast,
  limit,
  setLimit,
}: {
  stream: StreamFacts;
  past: ChartWindow;
  forecast: ForecastData;
  limit: number | null;
  setLimit: (limit: number) => void;
}) {
  const words = useMemo(() => tickWords(stream.zone), [stream.zone]);
  const start = forecast.time[0] ?? 0;
  const end = forecast.time.at(-1) ?? 1;
  // As much of the past as of what comes.
  const range = useMemo<Range>(() => [start - (end - start), end], [start, end]);
  const first = past.time.findIndex((t) => t >= range[0]);
  const times = useMemo(() => (first < 0 ? [] : past.time.slice(first)), [past.time, first]);
  const seen = useMemo(() => (first < 0 ? [] : past.value.slice(first)), [past.value, first]);
  // What was left out at the end lies under the forecast: one axis of time for both.
  const { time, lines } = useMemo(() => {
    const all = [...new Set([...times, ...forecast.time])].sort((a, b) => a - b);
    const at = new Map(all.map((t, i) => [t, i]));
    const column = (times: number[], values: (number | null)[]) => {
      const out: (number | null)[] = all.map(() => null);
      times.forEach((t, i) => {
        out[at.get(t) ?? 0] = values[i] ?? null;
      });
      return out;
    };
    const made: Line[] = [
      { data: column(forecast.time, forecast.expected), stroke: "line", width: 1.4, dash: [5, 4] },
      { data: column(times, seen), stroke: "ink", width: 1.2 },
    ];
    return { time: all, lines: made };
  }, [times, seen, forecast]);
  const bounds = useMemo<Range>(() => {
    const values = [...seen, ...forecast.lower, ...forecast.upper, limit].filter(
      (v): v is number => v !== null,
    );
    const low = Math.min(...values);
    const high = Math.max(...values);
    const margin = (high - low || 1) * 0.08;
    return [low - margin, high + margin];
  }, [seen, forecast, limit]);
  const side = forecast.limit?.side;
  return (
    <>
      <div className={workbenchCss.pane}>
        <PaneLabel>{stream.unit || "value"}</PaneLabel>
        <TimePane
          time={time}
          lines={lines}
          range={range}
          height={HEIGHT}
          zone={stream.zone}
          tickWords={words}
          bounds={bounds}
          label={`${stream.title}: seen until ${dayTime(start, stream.zone)}, then expected, with its interval`}
          redrawOn={`${limit} ${forecast.limit?.limit} ${forecast.time.length}`}
          under={(u, c) =>
            drawWash(
              u,
              c,
              forecast.time,
              (i) => forecast.lower[i],
              (i) => forecast.upper[i],
            )
          }
          over={(u, c) => drawLimit(u, c, start, forecast.limit)}
        />
        <span />
        {side && limit !== null && (
          <LimitLine
            range={range}
            limit={limit}
            setLimit={setLimit}
            bounds={bounds}
            height={HEIGHT}
            unit={stream.unit}
          />
        )}
      </div>
      {forecast.limit && (
        <div className={workbenchCss.pane}>
          <PaneLabel>futures past it, %</PaneLabel>
          <TimePane
            time={forecast.time}
            lines={[
              {
                data: forecast.limit.by.map((s) => (s === null ? null : 100 * s)),
                stroke: side === "below" ? "below" : "above",
                width: 1.6,
              },
            ]}
            range={range}
            height={SHARE_HEIGHT}
            zone={stream.zone}
            tickWords={words}
            bounds={[0, 105]}
            hasTimeAxis={false}
            label={`Share of futures that have reached ${figure(forecast.limit.limit)} ${stream.unit}, rising to ${figure(100 * forecast.limit.chance_by_end, 0)} %`}
          />
          <span className="figure soft small">{figure(100 * forecast.limit.chance_by_end, 0)} %</span>
        </div>
      )}
      <Group component="p" gap="2px 16px" {...UNDER_PLOT} my={4} className={`${workbenchCss.legend} small`}>
        <span>broken: expected; shaded: its interval; from the upright line on nothing is known yet</span>
      </Group>
    </>
  );
}
