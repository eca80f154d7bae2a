import { Box, Button } from "@mantine/core";
import { useMemo } from "react";
import type { ChartWindow } from "../../api/client";
import { edgeAt } from "../../charts/band";
import { type Levels, nearest, sideOf } from "../../charts/drawing";
import { AXIS_WIDTH } from "../../charts/TimePane";
import partsCss from "../../parts/parts.module.css";
import { SideBySide } from "../../parts/SideBySide";
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
        <Box
          pos="absolute"
          bg="var(--panel)"
          p="5px 9px"
          fz={12.5}
          miw={176}
          bd="1px solid var(--line)"
          className={`${partsCss.tip} front ${partsCss.pinned}`}
          role="status"
          style={{ left: AXIS_WIDTH + 6, bottom: 46 }}
        >
          <strong>{dayTime(pin, stream.zone)}</strong> {words(value(pinned))}
          {cursor && <Apart cursor={cursor} pin={pin} from={value(pinned)} view={view} words={words} />}{" "}
          <Button onClick={unpin}>Unpin</Button>
        </Box>
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
    <Box
      pos="absolute"
      bg="var(--panel)"
      p="5px 9px"
      fz={12.5}
      miw={176}
      bd="1px solid var(--line)"
      className={`${partsCss.tip} front`}
      style={{ left: AXIS_WIDTH + (cursor.left > 380 ? cursor.left - 210 : cursor.left + 18), top: 30 }}
    >
      <strong>
        {dayTime(at, stream.zone)} {zoneName(at, stream.zone)}
      </strong>
      <SideBySide component="dl" of="auto 1fr" gap="0 12px" m={0}>
        <dt className="soft">seen</dt>
        <dd className="figure right">{seen === null ? "missing" : words(seen)}</dd>
        {share < 1 && (
          <>
            <dt className="soft">bin filled</dt>
            <dd className="figure right">{figure(100 * share, 0)} %</dd>
          </>
        )}
        {earlier && before !== null && (
          <>
            <dt className="soft">{earlier.words}</dt>
            <dd className="figure right">{words(earlier.window.value[before] ?? null)}</dd>
          </>
        )}
        {expected !== null && (
          <>
            <dt className="soft">expected</dt>
            <dd className="figure right">{words(expected)}</dd>
          </>
        )}
        {(low !== null || high !== null) && (
          <>
            <dt className="soft">range</dt>
            <dd className="figure right">
              {words(low)} – {words(high)}
            </dd>
          </>
        )}
        {expected !== null && (
          <>
            <dt className="soft">off by</dt>
            <dd className={`figure right ${side > 0 ? "above" : side < 0 ? "below" : ""}`}>
              {off !== null && off > 0 ? "+" : ""}
              {words(off)}
            </dd>
          </>
        )}
        {view.score && (
          <>
            <dt className="soft">{view.share ? "strongest" : "score"}</dt>
            <dd className="figure right">
              {score === null ? "not judged" : `${figure(Math.abs(score), 1)} σ`}
            </dd>
          </>
        )}
        {rare !== null && (
          <>
            <dt className="soft">by chance</dt>
            <dd className="figure right">1 in {figure(rare, 0)}</dd>
          </>
        )}
      </SideBySide>
    </Box>
  );
}
