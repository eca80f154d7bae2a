import { useElementSize } from "@mantine/hooks";
import { dayOf, figure } from "../../parts/words";
import lookCss from "./look.module.css";
import { type Look, periodWords } from "./words";

/** Heights of the bars, in pixels: in a pane as it has room. */
const HEIGHT = { least: 40, most: 150 };
const GAP = 8;
const HALF_NAME = 34;
const LEFT = 76;
const BOTTOM = 24;
/** Widths of a bar with its room, in pixels; and of all where nothing is laid out. */
const SLOT = { least: 12, most: 44 };
const USUAL_ROOM = 976;

/** Past days or weeks as bars with the limits of each; where choose is given, one is chosen by a click or by the arrow keys, and all else follows. */
export function PeriodBars({ look, choose }: { look: Look; choose?: (start: number) => void }) {
  const { start, value, usual, lower, upper, outside } = look.periods;
  // Drawn at its own size, so that words stay as large as elsewhere: of many periods the newest that fit.
  const { ref, width, height } = useElementSize();
  const free = choose || !height ? HEIGHT.most : height - BOTTOM - 2 * GAP;
  const tall = Math.max(HEIGHT.least, Math.min(HEIGHT.most, free));
  const room = (width || USUAL_ROOM) - LEFT;
  const chosen = start.indexOf(look.start);
  const fitting = Math.max(Math.floor(room / SLOT.least), 1);
  const first = Math.max(Math.min(start.length - fitting, chosen < 0 ? start.length : chosen), 0);
  const shown = start.slice(first, first + fitting);
  const slot = Math.min(SLOT.most, Math.floor(room / Math.max(shown.length, 1)));
  const wide = LEFT + shown.length * slot;
  const inSight = (of: (number | null)[]) => of.slice(first, first + fitting);
  const all = [...inSight(value), ...inSight(upper)].filter((v): v is number => v !== null);
  const least = Math.min(0, ...all, ...inSight(lower).filter((v): v is number => v !== null));
  const most = Math.max(...all, least + 1e-9);
  const y = (v: number) => tall - ((v - least) / (most - least)) * (tall - 12);
  // Names a week apart, or as far as they need.
  const apart = look.by === "day" ? 7 : Math.ceil(60 / slot);
  const isNamed = (i: number) => i % apart === apart - 1;
  // A name at the right edge would be cut.
  const isLast = (place: number) => (shown.length - place - 0.5) * slot < HALF_NAME;
  const move = (event: React.KeyboardEvent) => {
    const by = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
    const next = by === undefined ? undefined : start[chosen + by];
    if (next === undefined) return;
    event.preventDefault();
    choose?.(next);
  };
  return (
    <div ref={ref}>
      <svg
        viewBox={`0 0 ${wide} ${tall + BOTTOM}`}
        width={wide}
        height={tall + BOTTOM}
        aria-label={`Past ${look.by}s`}
        {...(choose
          ? {
              role: "slider",
              tabIndex: 0,
              "aria-valuemin": 0,
              "aria-valuemax": start.length - 1,
              "aria-valuenow": chosen,
              "aria-valuetext": `${periodWords(look.start, look.by, look.zone)}: ${figure(look.value)} ${look.unit}`,
              onKeyDown: move,
            }
          : { role: "img" })}
      >
        <text
          fontSize={12}
          fill="var(--ink-soft)"
          className="figure"
          x={LEFT - 8}
          y={y(most) + 10}
          textAnchor="end"
        >
          {figure(most)}
        </text>
        <text
          fontSize={12}
          fill="var(--ink-soft)"
          className="figure"
          x={LEFT - 8}
          y={y(least) + 4}
          textAnchor="end"
        >
          {figure(least)}
        </text>
        <line
          stroke="var(--line)"
          x1={LEFT}
          x2={wide}
          y1={y(Math.max(least, 0))}
          y2={y(Math.max(least, 0))}
        />
        {shown.map((at, place) => {
          const i = first + place;
          const v = value[i] ?? null;
          const [low, high, mid] = [lower[i] ?? null, upper[i] ?? null, usual[i] ?? null];
          const zero = y(Math.max(least, 0));
          return (
            // biome-ignore lint/a11y/noStaticElementInteractions: the arrow keys of the whole do the same
            <g
              key={at}
              className={lookCss.period}
              data-chosen={i === chosen || undefined}
              transform={`translate(${LEFT + place * slot} 0)`}
              onClick={choose && (() => choose(at))}
            >
              <title>{`${periodWords(at, look.by, look.zone)}: ${figure(v)} ${look.unit}${outside[i] ? `, ${outside[i]} its limits` : ""}`}</title>
              <rect className={lookCss.periodSlot} width={slot} height={tall} />
              {low !== null && high !== null && (
                <rect
                  fill="var(--band)"
                  x={1}
                  width={slot - 2}
                  y={y(high)}
                  height={Math.max(y(low) - y(high), 1)}
                />
              )}
              {v !== null && (
                <rect
                  x={slot * 0.25}
                  width={slot * 0.5}
                  y={Math.min(y(v), zero)}
                  height={Math.max(Math.abs(zero - y(v)), 1)}
                />
              )}
              {mid !== null && (
                <line
                  stroke="var(--ink-soft)"
                  strokeDasharray="3 2"
                  x1={1}
                  x2={slot - 1}
                  y1={y(mid)}
                  y2={y(mid)}
                />
              )}
              {outside[i] && (
                <text
                  fontSize={10}
                  fill={outside[i] === "above" ? "var(--above)" : "var(--below)"}
                  x={slot / 2}
                  y={10}
                  textAnchor="middle"
                >
                  {outside[i] === "above" ? "▲" : "▼"}
                </text>
              )}
              {isNamed(i) && (
                <text
                  fontSize={12}
                  fill="var(--ink-soft)"
                  className="figure"
                  x={slot / 2}
                  y={tall + 18}
                  textAnchor={isLast(place) ? "end" : "middle"}
                >
                  {dayOf(at, look.zone)}
                </text>
              )}
            </g>
          );
        })}
      </svg>
    </div>
  );
}
