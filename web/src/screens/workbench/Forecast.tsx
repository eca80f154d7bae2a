import { Box, Button } from "@mantine/core";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, get } from "../../api/client";
import { GUTTER } from "../../charts/paneOptions";
import { pngOf, save } from "../../charts/picture";
import { Trouble, Waiting } from "../../parts/ask";
import { dayEnd } from "../../parts/clock";
import { useSettled } from "../../parts/useSettled";
import { begun, zoneWords } from "../../parts/words";
import { AddToBoard } from "../boards/AddToBoard";
import { ForecastPicture } from "./ForecastPicture";
import { ForecastSentence, LENGTHS } from "./ForecastSentence";
import { asCsv, asPicture, type ForecastData, reachedWords } from "./forecastWords";
import { spanHours } from "./spans";
import { Together } from "./Together";
import type { Ahead, StreamFacts } from "./types";

const DAY = 86_400_000;
/** What the server forecasts at once. */
const MOST_STEPS = 20_000;
const LEAST_STEPS = 4;

/** As many of a family as are forecast at once. */
const MOST_TOGETHER = 8;
const STEPS_OF_PAST = 91;

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
  const last = stream.last ?? 0;
  const fits = LENGTHS.filter(([days]) => {
    const steps = (Number(days) * DAY) / (stream.step_s * 1000);
    return steps >= LEAST_STEPS && steps <= MOST_STEPS;
  });
  // Beside a length in days, a date stands for itself.
  const isUntil = ahead.days.includes("-");
  const days = isUntil || fits.some(([d]) => d === ahead.days) ? ahead.days : (fits.at(-1)?.[0] ?? "365");
  const reach = isUntil
    ? { until: dayEnd(days, zone) ?? last + DAY }
    : { steps: Math.max(1, Math.round((Number(days) * DAY) / (stream.step_s * 1000))) };
  const family = ahead.isFamily ? stream.family.filter((id) => id !== stream.id) : [];
  const forecast = useQuery<ForecastData[]>({
    queryKey: ["forecast", stream.id, plan, { ...ahead, days }],
    placeholderData: keepPreviousData,
    queryFn: async ({ signal }) => {
      const answer = await get(
        api.POST("/api/v1/streams/forecast", {
          body: {
            streams: [stream.id, ...family.slice(0, MOST_TOGETHER - 1)],
            plan,
            ...reach,
            skip_last: ahead.skip,
            interval: Number(ahead.interval),
            ...(ahead.side !== "none" && ahead.limit !== null
              ? { limit: { [ahead.side]: ahead.limit } }
              : {}),
          },
          signal,
        }),
      );
      return answer.items;
    },
  });
  const first = forecast.data?.[0];
  const past = useQuery({
    queryKey: ["samples", stream.id, "before", days],
    queryFn: ({ signal }) =>
      get(
        api.GET("/api/v1/streams/{id}/samples", {
          params: {
            path: { id: stream.id },
            query: { from: last - (isUntil ? STEPS_OF_PAST : Number(days)) * DAY, to: last, points: 4_000 },
          },
          signal,
        }),
      ),
  });
  const name = `forecast-${stream.metric}-${stream.id}`;
  const take = (changes: Partial<Ahead>) => setAhead({ ...ahead, ...changes });
  return (
    <Box aria-label="Forecast" component="section" m="4px 0 12px" className="forecast">
      <ForecastSentence {...{ stream, ahead, days, fits, limit, first }} take={take} />
      {forecast.isPending && <Waiting what="Looking ahead" />}
      {forecast.isError && <Trouble error={forecast.error} retry={() => forecast.refetch()} />}
      {first && past.data && (
        <ForecastPicture
          stream={stream}
          past={past.data}
          forecast={first}
          limit={limit}
          setLimit={setLimit}
        />
      )}
      {first?.limit && (
        <Box
          component="p"
          mt={10}
          mb={4}
          mr={GUTTER}
          ff="var(--serif)"
          fz={21}
          lh={1.3}
          className="forecast-sentence"
          role="status"
        >
          {begun(reachedWords(first.limit, unit, zone))}{" "}
          <span className="soft small">{zoneWords(first.time[0] ?? 0, zone)}</span>
        </Box>
      )}
      {forecast.data && forecast.data.length > 1 && <Together forecasts={forecast.data} />}
      {ahead.isFamily && stream.family.length > MOST_TOGETHER && (
        <p className="soft small">
          {MOST_TOGETHER} of its {stream.family.length} streams; the command line takes all of them.
        </p>
      )}
      {forecast.data && first && (
        <p className="small">
          Save:{" "}
          <Button onClick={() => save(`${name}.csv`, new Blob([asCsv(forecast.data)], { type: "text/csv" }))}>
            CSV
          </Button>{" "}
          {past.data && (
            <Button
              onClick={() =>
                void pngOf(asPicture(stream, past.data, first)).then((b) => save(`${name}.png`, b))
              }
            >
              PNG
            </Button>
          )}{" "}
          <AddToBoard
            pane={{
              kind: "forecast",
              stream: stream.id,
              hours: spanHours([first.time[0] ?? 0, first.time.at(-1) ?? 0]),
            }}
          />{" "}
          <span className="soft">{first.notes.map(begun).join(". ")}</span>
        </p>
      )}
    </Box>
  );
}
