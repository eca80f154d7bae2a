import { Button, Input } from "@mantine/core";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { api, type ChartWindow, get, type Schema } from "../../api/client";
import { iso } from "../../api/wire";
import { drawLimit, drawRange } from "../../charts/ahead";
import { save } from "../../charts/picture";
import { AXIS_WIDTH, type Line, type Range, TimePane } from "../../charts/TimePane";
import { tickWords } from "../../charts/ticks";
import { Trouble, Waiting } from "../../parts/ask";
import { useSettled } from "../../parts/useSettled";
import { WordSelect } from "../../parts/WordSelect";
import { begun, dayTime, figure, zoneName } from "../../parts/words";
import { LimitLine } from "./LimitLine";
import type { Ahead, StreamFacts } from "./types";

const DAY = 86_400_000;
const LENGTHS = [
  ["1", "a day"],
  ["7", "a week"],
  ["28", "four weeks"],
  ["91", "thirteen weeks"],
  ["365", "a year"],
] as const;
const INTERVALS = [
  ["0.5", "50 %"],
  ["0.8", "80 %"],
  ["0.9", "90 %"],
  ["0.95", "95 %"],
  ["0.99", "99 %"],
] as const;
const SIDES = [
  ["none", "no limit"],
  ["above", "a limit above"],
  ["below", "a limit below"],
] as const;
/** What the server forecasts at once. */
const MOST_STEPS = 20_000;
const LEAST_STEPS = 4;
const HEIGHT = 240;
const SHARE_HEIGHT = 90;

type Told = Schema["Forecast"];
type Words = (typeof LENGTHS)[number][0];

/** When a limit is reached, in a sentence. */
export function reachedWords(told: NonNullable<Told["limit"]>, unit: string, zone: string): string {
  const value = `${figure(told.limit)} ${unit}`.trim();
  const half = told.reached_with["0.5"];
  const tenth = told.reached_with["0.1"];
  const share = `${figure(100 * told.chance_by_end, 0)} of 100 futures reach it`;
  if (half)
    return `${value} is reached ${dayTime(half, zone)} (half of the futures${tenth ? `; one in ten by ${dayTime(tenth, zone)}` : ""}); ${share} within this span.`;
  if (tenth)
    return `${value} is reached by ${dayTime(tenth, zone)} in one of ten futures, and in fewer than half within this span: ${share}.`;
  return `${value} is not reached within this span: ${share}.`;
}

/** The forecast as the command line writes it. */
export function asCsv(told: Told): string {
  const cell = (v: number | null | undefined) => (v === null || v === undefined ? "" : String(v));
  const series = /[",\n]/.test(told.key) ? `"${told.key.replaceAll('"', '""')}"` : told.key;
  const rows = told.time.map(
    (t, i) => `${series},${iso(t)},${cell(told.expected[i])},${cell(told.lower[i])},${cell(told.upper[i])}`,
  );
  return ["series,time,expected,lower,upper", ...rows, ""].join("\n");
}

/** The time axis goes on: what the plan expects next, how sure that is, and when a limit is reached. */
export function Forecast({
  stream,
  plan,
  ahead,
  setAhead,
}: {
  stream: StreamFacts;
  plan: string;
  ahead: Ahead;
  setAhead: (ahead: Ahead) => void;
}) {
  const { zone, unit } = stream;
  const [limit, setLimit] = useSettled(ahead.limit, (value) => setAhead({ ...ahead, limit: value }));
  const fits = LENGTHS.filter(([days]) => {
    const steps = (Number(days) * DAY) / (stream.step_s * 1000);
    return steps >= LEAST_STEPS && steps <= MOST_STEPS;
  });
  const days = fits.some(([d]) => d === ahead.days) ? ahead.days : (fits.at(-1)?.[0] ?? "365");
  const steps = Math.max(1, Math.round((Number(days) * DAY) / (stream.step_s * 1000)));
  const told = useQuery<Told>({
    queryKey: ["forecast", stream.id, plan, { ...ahead, days }],
    placeholderData: keepPreviousData,
    queryFn: async ({ signal }) => {
      const answer = await get(
        api.POST("/api/v1/streams/forecast", {
          body: {
            streams: [stream.id],
            plan,
            steps,
            skip_last: ahead.skip,
            interval: Number(ahead.interval),
            ...(ahead.side !== "none" && ahead.limit !== null
              ? { limit: { [ahead.side]: ahead.limit } }
              : {}),
          },
          signal,
        }),
      );
      return answer.items[0] as Told;
    },
  });
  const last = stream.last ?? 0;
  const past = useQuery({
    queryKey: ["samples", stream.id, days],
    queryFn: ({ signal }) =>
      get(
        api.GET("/api/v1/streams/{id}/samples", {
          params: {
            path: { id: stream.id },
            query: { from: last - Number(days) * DAY, to: last, points: 4_000 },
          },
          signal,
        }),
      ),
  });
  const take = (changes: Partial<Ahead>) => setAhead({ ...ahead, ...changes });
  const chooseSide = (side: Ahead["side"]) => {
    const edge = side === "above" ? told.data?.upper : told.data?.lower;
    const values = (edge ?? []).filter((v): v is number => v !== null);
    const start = values.length ? (side === "above" ? Math.max(...values) : Math.min(...values)) : 0;
    take({ side, limit: side === "none" ? null : (ahead.limit ?? Number(start.toPrecision(3))) });
  };
  return (
    <section aria-label="Forecast" className="forecast">
      <div>
        Go on for{" "}
        <WordSelect<Words>
          label="How far"
          value={days as Words}
          choices={fits}
          onChange={(d) => take({ days: d })}
        />{" "}
        with an interval of{" "}
        <WordSelect
          label="Interval"
          value={ahead.interval as (typeof INTERVALS)[number][0]}
          choices={INTERVALS}
          onChange={(interval) => take({ interval })}
        />
        , leaving out the last{" "}
        <Input
          variant="unstyled"
          classNames={{ wrapper: "control", input: "word" }}
          aria-label="Samples left out at the end"
          inputMode="numeric"
          defaultValue={ahead.skip}
          onBlur={(e) => take({ skip: Math.max(0, Math.round(Number(e.target.value)) || 0) })}
        />{" "}
        samples, with <WordSelect label="Limit" value={ahead.side} choices={SIDES} onChange={chooseSide} />
        {ahead.side !== "none" && (
          <>
            {" "}
            at{" "}
            <Input
              key={limit}
              variant="unstyled"
              classNames={{ wrapper: "control", input: "word" }}
              aria-label="Value of the limit"
              inputMode="decimal"
              defaultValue={limit ?? ""}
              onBlur={(e) => {
                const value = Number(e.target.value);
                if (e.target.value && Number.isFinite(value)) take({ limit: value });
              }}
            />{" "}
            {unit}
          </>
        )}
        .
      </div>
      {told.isPending && <Waiting what="Looking ahead" />}
      {told.isError && <Trouble error={told.error} retry={() => told.refetch()} />}
      {told.data && past.data && (
        <Picture stream={stream} view={past.data} told={told.data} limit={limit} setLimit={setLimit} />
      )}
      {told.data?.limit && (
        <p className="forecast-sentence" role="status">
          {begun(reachedWords(told.data.limit, unit, zone))}{" "}
          <span className="soft small">
            {zone} ({zoneName(told.data.time[0] ?? 0, zone)})
          </span>
        </p>
      )}
      {told.data && (
        <p className="small">
          <Button
            onClick={() =>
              save(
                `forecast-${stream.metric}-${stream.id}.csv`,
                new Blob([asCsv(told.data)], { type: "text/csv" }),
              )
            }
          >
            Save as CSV
          </Button>{" "}
          <span className="soft">{told.data.notes.map(begun).join(". ")}</span>
        </p>
      )}
    </section>
  );
}

function Picture({
  stream,
  view,
  told,
  limit,
  setLimit,
}: {
  stream: StreamFacts;
  view: ChartWindow;
  told: Told;
  limit: number | null;
  setLimit: (limit: number) => void;
}) {
  const words = useMemo(() => tickWords(stream.zone), [stream.zone]);
  const start = told.time[0] ?? 0;
  const end = told.time.at(-1) ?? 1;
  // As much of the past as of what comes.
  const range = useMemo<Range>(() => [start - (end - start), end], [start, end]);
  const first = view.time.findIndex((t) => t >= range[0]);
  const past = useMemo(() => (first < 0 ? [] : view.time.slice(first)), [view.time, first]);
  const seen = useMemo(() => (first < 0 ? [] : view.value.slice(first)), [view.value, first]);
  // What was left out at the end lies under the forecast: one axis of time for both.
  const { time, lines } = useMemo(() => {
    const all = [...new Set([...past, ...told.time])].sort((a, b) => a - b);
    const at = new Map(all.map((t, i) => [t, i]));
    const column = (times: number[], values: (number | null)[]) => {
      const out: (number | null)[] = all.map(() => null);
      times.forEach((t, i) => {
        out[at.get(t) ?? 0] = values[i] ?? null;
      });
      return out;
    };
    const made: Line[] = [
      { data: column(told.time, told.expected), stroke: "line", width: 1.4, dash: [5, 4] },
      { data: column(past, seen), stroke: "ink", width: 1.2 },
    ];
    return { time: all, lines: made };
  }, [past, seen, told]);
  const bounds = useMemo<Range>(() => {
    const values = [...seen, ...told.lower, ...told.upper, limit].filter((v): v is number => v !== null);
    const low = Math.min(...values);
    const high = Math.max(...values);
    const margin = (high - low || 1) * 0.08;
    return [low - margin, high + margin];
  }, [seen, told, limit]);
  const side = told.limit?.side;
  return (
    <>
      <div className="pane">
        <span className="pane-label">{stream.unit || "value"}</span>
        <TimePane
          time={time}
          lines={lines}
          range={range}
          height={HEIGHT}
          zone={stream.zone}
          tickWords={words}
          bounds={bounds}
          label={`${stream.title}: seen until ${dayTime(start, stream.zone)}, then expected, with its interval`}
          redrawOn={`${limit} ${told.limit?.limit} ${told.time.length}`}
          under={(u, c) => drawRange(u, c, told)}
          over={(u, c) => drawLimit(u, c, start, told.limit)}
        />
        <span />
        {side && limit !== null && (
          <LimitLine limit={limit} setLimit={setLimit} bounds={bounds} height={HEIGHT} unit={stream.unit} />
        )}
      </div>
      {told.limit && (
        <div className="pane">
          <span className="pane-label">futures past it, %</span>
          <TimePane
            time={told.time}
            lines={[
              {
                data: told.limit.by.map((s) => (s === null ? null : 100 * s)),
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
            label={`Share of futures that have reached ${figure(told.limit.limit)} ${stream.unit}, rising to ${figure(100 * told.limit.chance_by_end, 0)} %`}
          />
          <span className="figure soft small">{figure(100 * told.limit.chance_by_end, 0)} %</span>
        </div>
      )}
      <p className="small legend" style={{ marginLeft: AXIS_WIDTH }}>
        <span>broken: expected; shaded: its interval; from the upright line on nothing is known yet</span>
      </p>
    </>
  );
}
