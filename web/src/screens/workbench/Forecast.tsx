import { Button } from "@mantine/core";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, get } from "../../api/client";
import { save } from "../../charts/picture";
import { Trouble, Waiting } from "../../parts/ask";
import { Field } from "../../parts/Field";
import { useSettled } from "../../parts/useSettled";
import { WordSelect } from "../../parts/WordSelect";
import { begun, zoneName } from "../../parts/words";
import { ForecastPicture } from "./ForecastPicture";
import { asCsv, type ForecastData, reachedWords } from "./forecastWords";
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

type Words = (typeof LENGTHS)[number][0];

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
  const forecast = useQuery<ForecastData>({
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
      return answer.items[0] as ForecastData;
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
    const edge = side === "above" ? forecast.data?.upper : forecast.data?.lower;
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
        <Field
          className="word"
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
            <Field
              key={limit}
              className="word"
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
      {forecast.isPending && <Waiting what="Looking ahead" />}
      {forecast.isError && <Trouble error={forecast.error} retry={() => forecast.refetch()} />}
      {forecast.data && past.data && (
        <ForecastPicture
          stream={stream}
          past={past.data}
          forecast={forecast.data}
          limit={limit}
          setLimit={setLimit}
        />
      )}
      {forecast.data?.limit && (
        <p className="forecast-sentence" role="status">
          {begun(reachedWords(forecast.data.limit, unit, zone))}{" "}
          <span className="soft small">
            {zone} ({zoneName(forecast.data.time[0] ?? 0, zone)})
          </span>
        </p>
      )}
      {forecast.data && (
        <p className="small">
          <Button
            onClick={() =>
              save(
                `forecast-${stream.metric}-${stream.id}.csv`,
                new Blob([asCsv(forecast.data)], { type: "text/csv" }),
              )
            }
          >
            Save as CSV
          </Button>{" "}
          <span className="soft">{forecast.data.notes.map(begun).join(". ")}</span>
        </p>
      )}
    </section>
  );
}
