import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, get, type Schema } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { SelectField } from "../../parts/Field";
import { day, figure, hours, weekdayOf } from "../../parts/words";
import type { StreamFacts } from "./types";

const WIDE = 1000;
const TALL = 150;
const DAY = 86_400_000;

/** All seasons over one another: the one in the middle of the view strong, the same weekday paler, the rest faint. */
export function Fold({
  stream,
  scanId,
  seasons,
  at,
}: {
  stream: StreamFacts;
  scanId: number;
  seasons: number[];
  at: number;
}) {
  const [chosen, setChosen] = useState<number | null>(null);
  const season = chosen ?? seasons[0] ?? 24;
  // The day in sight is enough: a new one asks anew, a little panning does not.
  const moment = Math.floor(at / DAY) * DAY + DAY / 2;
  const fold = useQuery({
    queryKey: ["fold", scanId, stream.id, season, moment],
    placeholderData: keepPreviousData,
    queryFn: () =>
      get(
        api.GET("/api/v1/scans/{id}/streams/{stream}/fold", {
          params: { path: { id: scanId, stream: stream.id }, query: { hours: season, at: moment } },
        }),
      ),
  });
  const choices = [...new Set([...seasons, 24, 168])].sort((a, b) => a - b);
  return (
    <div style={{ margin: "4px 108px 0 0" }}>
      <label className="small">
        Season of{" "}
        <SelectField className="word" value={season} onChange={(e) => setChosen(Number(e.target.value))}>
          {choices.map((h) => (
            <option key={h} value={h}>
              {hours(h)}
            </option>
          ))}
        </SelectField>
      </label>
      {fold.isError && <Trouble error={fold.error} retry={() => fold.refetch()} />}
      {fold.data && <Picture fold={fold.data} stream={stream} />}
    </div>
  );
}

function Picture({ fold, stream }: { fold: Schema["Fold"]; stream: StreamFacts }) {
  const { cycles, starts, expected } = fold;
  const all = cycles.flat().filter((v): v is number => v !== null);
  if (!all.length) return <p className="soft small">Nothing was observed in these seasons.</p>;
  const low = Math.min(...all);
  const high = Math.max(...all);
  const slots = expected.length;
  const x = (i: number) => (i / Math.max(1, slots - 1)) * WIDE;
  const y = (v: number) => 4 + (1 - (v - low) / (high - low || 1)) * (TALL - 8);
  const period = fold.hours * 3_600_000;
  const own = starts.length - 1;
  const zone = fold.clock === "local" ? stream.zone : "UTC";
  const weekday = (i: number) => weekdayOf(starts[i] ?? 0, zone);
  const isAlike = (i: number) => period === DAY && i !== own && weekday(i) === weekday(own);
  const line = (values: (number | null)[]) => {
    let pen = "M";
    let path = "";
    values.forEach((v, i) => {
      if (v === null) pen = "M";
      else {
        path += `${pen}${x(i).toFixed(1)} ${y(v).toFixed(1)}`;
        pen = "L";
      }
    });
    return path;
  };
  const alike = cycles.filter((_, i) => isAlike(i)).length;
  const when = day(starts[own] ?? 0, zone);
  return (
    <figure style={{ margin: 0 }}>
      <svg
        width="100%"
        height={TALL}
        viewBox={`0 0 ${WIDE} ${TALL}`}
        preserveAspectRatio="none"
        role="img"
        aria-label={`${cycles.length} seasons of ${hours(fold.hours)} over one another, ${figure(low)} to ${figure(high)} ${stream.unit}`}
      >
        {cycles.map((c, i) => (
          <path
            key={starts[i]}
            d={line(c)}
            fill="none"
            vectorEffect="non-scaling-stroke"
            stroke={i === own ? "var(--ink)" : "var(--line)"}
            strokeWidth={i === own ? 2 : isAlike(i) ? 1.4 : 1}
            opacity={i === own ? 1 : isAlike(i) ? 0.8 : 0.28}
          />
        ))}
        <path
          d={line(expected)}
          fill="none"
          vectorEffect="non-scaling-stroke"
          stroke="var(--ink-soft)"
          strokeWidth="1.2"
          strokeDasharray="5 4"
        />
      </svg>
      <div className="fold-axis" aria-hidden="true">
        {[0, 1, 2, 3, 4].map((k) => (
          <span key={k}>{slotWords(fold, (k / 4) * period)}</span>
        ))}
      </div>
      <figcaption className="soft small">
        {figure(low)} to {figure(high)} {stream.unit}. Strong: the season from {when}
        {alike > 0 && `; less pale: the ${alike} others of its weekday`}; broken: what it was expected to be.{" "}
        {fold.clock === "local" ? `By the clock of ${stream.zone}.` : "In UTC."}
      </figcaption>
    </figure>
  );
}

/** A place within a season: the time of day in a day, the weekday in a week, else how long since it began. */
export function slotWords(fold: Pick<Schema["Fold"], "hours">, ms: number): string {
  if (fold.hours === 24) return ms >= DAY ? "24:00" : new Date(ms).toISOString().slice(11, 16);
  if (fold.hours === 168) {
    const names = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun", "Mon"];
    const rest = ms % DAY;
    return `${names[Math.floor(ms / DAY)] ?? ""}${rest ? ` ${new Date(rest).toISOString().slice(11, 16)}` : ""}`;
  }
  return `+${hours(Number((ms / 3_600_000).toFixed(2)))}`;
}
