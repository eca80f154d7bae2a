import { useQueries, useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { api, type ChartWindow, get } from "../../api/client";
import { drawBand, drawFindings, drawGaps } from "../../charts/drawing";
import { type Line, type Range, TimePane } from "../../charts/TimePane";
import { day } from "../../parts/words";
import type { StreamFacts } from "./Workbench";

type PaneProps = Pick<
  Parameters<typeof TimePane>[0],
  "range" | "zone" | "tickWords" | "onRange" | "onCursor"
>;

/** Other streams under this one on the same axis, each by its own standing scan; on one scale where that is asked for. */
export function Others({
  stream,
  own,
  ids,
  isCommon,
  pane,
  onChange,
}: {
  stream: StreamFacts;
  own: ChartWindow;
  ids: number[];
  isCommon: boolean;
  pane: PaneProps;
  onChange: (ids: number[], isCommon: boolean) => void;
}) {
  // Asked for when somebody reaches for the list, so that opening a stream waits for nothing more.
  const [isAsked, setAsked] = useState(false);
  const tide = useQuery({
    queryKey: ["tide", {}],
    enabled: isAsked || ids.length > 0,
    queryFn: () => get(api.GET("/api/v1/tide")),
  });
  const rows = tide.data?.rows ?? [];
  const shown = ids.flatMap((id) => rows.filter((r) => r.id === id));
  const [from, to] = pane.range;
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
  const bounds = isCommon ? boundsOf([own, ...windows.flatMap((w) => (w.data ? [w.data] : []))]) : undefined;
  const family = rows.filter((r) => r.metric === stream.metric && r.id !== stream.id && !ids.includes(r.id));
  const rest = rows.filter((r) => r.metric !== stream.metric && !ids.includes(r.id));
  return (
    <div>
      {shown.map((r, i) => {
        const view = windows[i]?.data;
        return (
          <div className="pane" style={{ marginTop: 14 }} key={r.id}>
            <span className="pane-label">
              {r.metric} · {r.title}, {r.unit || "value"}{" "}
              <button
                type="button"
                className="word"
                aria-label={`Take ${r.metric} ${r.title} out of the view`}
                onClick={() =>
                  onChange(
                    ids.filter((id) => id !== r.id),
                    isCommon,
                  )
                }
              >
                take out
              </button>
            </span>
            {view && (
              <OtherPane
                view={view}
                pane={pane}
                bounds={bounds}
                label={`${r.metric} ${r.title}`}
                badSide={r.bad_side}
              />
            )}
            <span />
          </div>
        );
      })}
      <p className="saving small">
        {ids.length < 4 && (
          <label>
            Below it{" "}
            <select
              className="word"
              value=""
              onPointerEnter={() => setAsked(true)}
              onFocus={() => setAsked(true)}
              onChange={(e) => onChange([...ids, Number(e.target.value)], isCommon)}
            >
              <option value="">another stream …</option>
              {[...family, ...rest].map((r) => (
                <option key={r.id} value={r.id}>
                  {r.metric} · {r.title}
                </option>
              ))}
            </select>
          </label>
        )}
        {ids.length > 0 && (
          <label>
            {" "}
            <input type="checkbox" checked={isCommon} onChange={(e) => onChange(ids, e.target.checked)} /> on
            one scale
          </label>
        )}
      </p>
    </div>
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
  const all = views.flatMap((v) => v.value).filter((v): v is number => v !== null);
  if (!all.length) return undefined;
  const low = all.reduce((a, b) => Math.min(a, b));
  const high = all.reduce((a, b) => Math.max(a, b));
  const margin = (high - low || Math.abs(high) || 1) * 0.06;
  return [low - margin, high + margin];
}
