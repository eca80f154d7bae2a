import { localDay } from "../../parts/clock";
import { Field } from "../../parts/Field";
import { DayField } from "../../parts/When";
import { WordSelect } from "../../parts/WordSelect";
import type { ForecastData } from "./forecastWords";
import type { Ahead, StreamFacts } from "./types";

const WEEK = 7 * 86_400_000;
export const LENGTHS = [
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
const UNTIL = "until";
const TOGETHER = [
  ["alone", "this stream alone"],
  ["family", "its family too"],
] as const;

type Words = (typeof LENGTHS)[number][0] | typeof UNTIL;

/** What is forecast, in words that can be changed: how far, for whom, how sure, and past what. */
export function ForecastSentence({
  stream,
  ahead,
  days,
  fits,
  limit,
  first,
  take,
}: {
  stream: StreamFacts;
  ahead: Ahead;
  /** A number of days, or a date. */
  days: string;
  fits: readonly (readonly [Words, string])[];
  limit: number | null;
  first?: ForecastData;
  take: (changes: Partial<Ahead>) => void;
}) {
  const { unit, zone } = stream;
  const last = stream.last ?? 0;
  const isUntil = days.includes("-");
  const chooseSide = (side: Ahead["side"]) => {
    const edge = side === "above" ? first?.upper : first?.lower;
    const values = (edge ?? []).filter((v): v is number => v !== null);
    const start = values.length ? (side === "above" ? Math.max(...values) : Math.min(...values)) : 0;
    take({ side, limit: side === "none" ? null : (ahead.limit ?? Number(start.toPrecision(3))) });
  };
  return (
    <div>
      Go on for{" "}
      <WordSelect<Words>
        label="How far"
        value={isUntil ? UNTIL : (days as Words)}
        choices={[...fits, [UNTIL, "until a day"]]}
        onChange={(d) => take({ days: d === UNTIL ? localDay(last + WEEK, zone) : d })}
      />{" "}
      {isUntil && (
        <>
          <DayField
            label="Until which day"
            value={days}
            onChange={(day) => day && take({ days: day })}
          />{" "}
        </>
      )}
      for{" "}
      <WordSelect
        label="Which streams"
        value={ahead.isFamily ? "family" : "alone"}
        choices={stream.family.length > 1 ? TOGETHER : TOGETHER.slice(0, 1)}
        onChange={(value) => take({ isFamily: value === "family" })}
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
  );
}
