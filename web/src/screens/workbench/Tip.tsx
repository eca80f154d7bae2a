import { Button } from "@mantine/core";
import { useMemo } from "react";
import type { ChartWindow } from "../../api/client";
import { edgeAt } from "../../charts/band";
import { type Levels, nearest, sideOf } from "../../charts/drawing";
import { AXIS_WIDTH } from "../../charts/TimePane";
import { dayTime, digitsFor, duration, figure, zoneName } from "../../parts/words";
import type { Cursor, StackProps, StreamFacts } from "./types";
import type { Earlier } from "./useUnder";

interface Props {
  cursor: Cursor | null;
  /** The pinned moment. */
  pin: number | null;
  unpin: () => void;
  view: ChartWindow;
  earlier: Earlier | null;
  stream: StreamFacts;
  levels: Levels;
  odds: StackProps["odds"];
}

/** What lies under the pointer; with a pinned moment, that one and how far the two are apart. */
export function Tip({ cursor, pin, unpin, view, earlier, stream, levels, odds }: Props) {
  const digits = useMemo(() => digitsFor(view.value), [view.value]);
  const words = (v: number | null | undefined) => `${figure(v, digits)} ${stream.unit}`.trim();
  const pinned = pin === null ? null : nearest(view.time, pin);
  const value = (i: number | null) => (i === null ? null : (view.value[i] ?? null));
  return (
    <>
      {pin !== null && (
        <div className="tip pinned" role="status" style={{ left: AXIS_WIDTH + 6, bottom: 46 }}>
          <strong>{dayTime(pin, stream.zone)}</strong> {words(value(pinned))}
          {cursor && <Apart cursor={cursor} pin={pin} from={value(pinned)} view={view} words={words} />}{" "}
          <Button onClick={unpin}>Unpin</Button>
        </div>
      )}
      {cursor && <Reading {...{ cursor, view, earlier, stream, levels, odds, words }} />}
    </>
  );
}

function Apart({
  cursor,
  pin,
  from,
  view,
  words,
}: {
  cursor: Cursor;
  pin: number;
  from: number | null;
  view: ChartWindow;
  words: (v: number | null) => string;
}) {
  const at = view.time[cursor.index] ?? pin;
  const here = view.value[cursor.index] ?? null;
  const off = here === null || from === null ? null : here - from;
  const share =
    off === null || !from ? "" : `, ${off > 0 ? "+" : ""}${figure((100 * off) / Math.abs(from), 1)} %`;
  return (
    <span className="figure">
      {" "}
      · here {off !== null && off > 0 ? "+" : ""}
      {words(off)}
      {share}, {at < pin ? "−" : "+"}
      {duration(Math.abs(at - pin) / 1000)}
    </span>
  );
}

function Reading({
  cursor,
  view,
  earlier,
  stream,
  levels,
  odds,
  words,
}: Omit<Props, "cursor" | "pin" | "unpin"> & {
  cursor: Cursor;
  words: (v: number | null | undefined) => string;
}) {
  const i = cursor.index;
  const at = view.time[i];
  if (at === undefined || at === null) return null;
  const seen = view.value[i] ?? null;
  const expected = view.expected?.[i] ?? null;
  const score = view.score?.[i] ?? null;
  const side = sideOf(score, levels);
  const low = levels.below !== null ? edgeAt(view, i, -1, levels.below) : null;
  const high = levels.above !== null ? edgeAt(view, i, 1, levels.above) : null;
  const rare = odds(score);
  const off = seen !== null && expected !== null ? seen - expected : null;
  const share = view.share?.[i] ?? 1;
  const before = earlier ? nearest(earlier.window.time, at) : null;
  return (
    <div
      className="tip"
      style={{ left: AXIS_WIDTH + (cursor.left > 380 ? cursor.left - 210 : cursor.left + 18), top: 30 }}
    >
      <strong>
        {dayTime(at, stream.zone)} {zoneName(at, stream.zone)}
      </strong>
      <dl>
        <dt>seen</dt>
        <dd>{seen === null ? "missing" : words(seen)}</dd>
        {share < 1 && (
          <>
            <dt>bin filled</dt>
            <dd>{figure(100 * share, 0)} %</dd>
          </>
        )}
        {earlier && before !== null && (
          <>
            <dt>{earlier.words}</dt>
            <dd>{words(earlier.window.value[before] ?? null)}</dd>
          </>
        )}
        {expected !== null && (
          <>
            <dt>expected</dt>
            <dd>{words(expected)}</dd>
          </>
        )}
        {(low !== null || high !== null) && (
          <>
            <dt>range</dt>
            <dd>
              {words(low)} – {words(high)}
            </dd>
          </>
        )}
        {expected !== null && (
          <>
            <dt>off by</dt>
            <dd className={side > 0 ? "above" : side < 0 ? "below" : ""}>
              {off !== null && off > 0 ? "+" : ""}
              {words(off)}
            </dd>
          </>
        )}
        {view.score && (
          <>
            <dt>{view.share ? "strongest" : "score"}</dt>
            <dd>{score === null ? "not judged" : `${figure(Math.abs(score), 1)} σ`}</dd>
          </>
        )}
        {rare !== null && (
          <>
            <dt>by chance</dt>
            <dd>1 in {figure(rare, 0)}</dd>
          </>
        )}
      </dl>
    </div>
  );
}
