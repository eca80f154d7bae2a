import { Box, Button, UnstyledButton } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { api, get } from "../../api/client";
import laneCss from "../../charts/lane.module.css";
import { ticks, tickWords } from "../../charts/ticks";
import { VERDICT_WORDS } from "../../parts/marks";
import { SideBySide } from "../../parts/SideBySide";
import { day, dayTime, plural } from "../../parts/words";
import { scopeWords } from "./EntryRow";

const LANE = { of: "250px 1fr", gap: 12, align: "center", mih: 20 } as const;

const SHOWN = 8;

interface Filter {
  verdict?: string;
  text?: string;
  from?: number;
  to?: number;
}

/** Entries over time, a lane for each scope; a drag along the axis chooses a span. */
export function EntryLanes({
  filter,
  onSpan,
  zone,
}: {
  filter: Filter;
  onSpan: (from: number | null, to: number | null) => void;
  zone: string;
}) {
  const box = useRef<HTMLDivElement>(null);
  const [isAll, setAll] = useState(false);
  const [drag, setDrag] = useState<[number, number] | null>(null);
  const lanes = useQuery({
    queryKey: ["logbook", "lanes", filter],
    queryFn: () => get(api.GET("/api/v1/logbook/lanes", { params: { query: filter } })),
  });
  const d = lanes.data;
  if (!d || d.first === null || d.last === null || d.lanes.length === 0) return null;
  const low = filter.from ?? d.first;
  const high = Math.max(filter.to ?? d.last, low + 3_600_000);
  const axis = ticks(low, high, zone, 9);
  const words = tickWords(zone);
  const share = (t: number) => Math.min(1, Math.max(0, (t - low) / (high - low)));
  const at = (clientX: number) => {
    const edge = box.current?.getBoundingClientRect();
    return edge ? low + ((clientX - edge.left) / edge.width) * (high - low) : low;
  };
  return (
    <Box component="section" mb={6} className="entry-lanes under" aria-label="Entries over time">
      <SideBySide {...LANE}>
        <span className="soft small">
          {filter.from || filter.to ? (
            <Button onClick={() => onSpan(null, null)}>All of the time</Button>
          ) : (
            "drag to choose a span"
          )}
        </span>
        <Box
          ref={box}
          pos="relative"
          h={22}
          fz={11.5}
          className="drags under soft figure"
          onPointerDown={(e) => {
            e.currentTarget.setPointerCapture(e.pointerId);
            setDrag([at(e.clientX), at(e.clientX)]);
          }}
          onPointerMove={(e) => drag && setDrag([drag[0], at(e.clientX)])}
          onPointerUp={() => {
            if (drag && Math.abs(drag[1] - drag[0]) > (high - low) / 200)
              onSpan(Math.round(Math.min(...drag)), Math.round(Math.max(...drag)));
            setDrag(null);
          }}
        >
          {axis.at.map((t) => (
            <i key={t} className="tick" style={{ left: `${100 * share(t)}%` }}>
              {words(t, axis.step)}
            </i>
          ))}
          {drag && (
            <b
              className="window"
              style={{
                left: `${100 * share(Math.min(...drag))}%`,
                width: `${100 * (share(Math.max(...drag)) - share(Math.min(...drag)))}%`,
              }}
            />
          )}
        </Box>
      </SideBySide>
      {d.lanes.slice(0, isAll ? undefined : SHOWN).map((lane) => (
        <SideBySide {...LANE} key={lane.scope}>
          <span title={scopeWords(lane.scope)} className="small cut">
            {scopeWords(lane.scope)} <span className="soft small">{lane.count}</span>
          </span>
          <Box ml={0} className={laneCss.spanLane}>
            {lane.entries.map((e) => {
              const label = `${VERDICT_WORDS[e.verdict]}, ${dayTime(e.start, zone)} to ${dayTime(e.end, zone)}`;
              return (
                <UnstyledButton
                  key={e.id}
                  data-verdict={e.verdict}
                  title={label}
                  aria-label={`${label}: show this span`}
                  style={{
                    left: `${100 * share(e.start)}%`,
                    width: `max(4px, ${100 * (share(e.end) - share(e.start))}%)`,
                  }}
                  onClick={() => {
                    const margin = Math.max(0.2 * (e.end - e.start), 3_600_000);
                    onSpan(Math.round(e.start - margin), Math.round(e.end + margin));
                  }}
                />
              );
            })}
          </Box>
        </SideBySide>
      ))}
      <p className="soft small">
        {day(low, zone)} – {day(high, zone)}, {zone}. Solid: incident; hollow: foreseen; struck through: false
        alarm; dotted: unsure; shaded: looked through.
        {d.lanes.length > SHOWN && (
          <>
            {" "}
            <Button onClick={() => setAll(!isAll)}>
              {isAll ? "Fewer lanes" : `All ${d.lanes.length} lanes`}
            </Button>
          </>
        )}
        {d.others > 0 && ` ${plural(d.others, "entry", "entries")} of further scopes stand in the list only.`}
      </p>
    </Box>
  );
}
