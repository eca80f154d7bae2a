import type { ChartWindow } from "../../api/client";
import { edgeAt } from "../../charts/band";
import { type Levels, sideOf } from "../../charts/drawing";
import { AXIS_WIDTH } from "../../charts/TimePane";
import { dayTime, figure, zoneName } from "../../parts/words";
import type { StackProps, StreamFacts } from "./types";

/** What lies under the pointer. */
export function Tip({
  cursor,
  view,
  stream,
  levels,
  odds,
}: {
  cursor: { index: number; left: number };
  odds: StackProps["odds"];
  view: ChartWindow;
  stream: StreamFacts;
  levels: Levels;
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
        <dd>{seen === null ? "missing" : `${figure(seen)} ${stream.unit}`}</dd>
        {expected !== null && (
          <>
            <dt>expected</dt>
            <dd>{figure(expected)}</dd>
            <dt>range</dt>
            <dd>
              {figure(low)} – {figure(high)}
            </dd>
            <dt>off by</dt>
            <dd className={side > 0 ? "above" : side < 0 ? "below" : ""}>
              {off !== null && off > 0 ? "+" : ""}
              {figure(off)} · {figure(score === null ? null : Math.abs(score), 1)} σ
            </dd>
            {rare !== null && (
              <>
                <dt>by chance</dt>
                <dd>1 in {figure(rare, 0)}</dd>
              </>
            )}
          </>
        )}
      </dl>
    </div>
  );
}
