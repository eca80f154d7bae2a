import { pathOf } from "../../../charts/path";
import { ScaleEnds } from "../../../charts/ScaleEnds";
import { dayTime, figure, plural } from "../../../parts/words";
import { shortWords, type Unit, type UnitsData } from "./units";

const W = 420;
const H = 216;
const LEFT = 46;
const FOOT = 18;

/** Some units over one another: those that are odd or flagged, and as many others. */
export function Laid({
  units,
  data,
  chosen,
  choose,
  zone,
  name,
}: {
  units: Unit[];
  data: UnitsData;
  chosen: number;
  choose: (number: number) => void;
  zone: string;
  name: string;
}) {
  const isOdd = (n: number) => Boolean(data.is_odd[n]) || (data.score[n] ?? 0) >= (data.level ?? Infinity);
  const odd = units.filter((u) => isOdd(u.number));
  const others = units.filter((u) => !isOdd(u.number));
  const seen = units.flatMap((u) => u.value).filter((v): v is number => v !== null);
  const [low, high] = [Math.min(...seen), Math.max(...seen)];
  const last = Math.max(...units.map((u) => u.at_s.at(-1) ?? 0)) || 1;
  const y = (v: number) => 6 + (1 - (v - low) / (high - low || 1)) * (H - 12);
  const line = (u: Unit) => pathOf(u.value, (i) => LEFT + ((u.at_s[i] ?? 0) / last) * (W - LEFT - 4), y);
  return (
    <section aria-label="Units over one another">
      <h3>
        {plural(odd.length, "odd one", "odd ones")} and {plural(others.length, "other")} over one another
      </h3>
      <svg
        viewBox={`0 0 ${W} ${H + FOOT}`}
        width="100%"
        role="img"
        aria-label={`${units.length} units over one another, ${figure(low, 2)} to ${figure(high, 2)} ${name}`}
      >
        <ScaleEnds low={low} high={high} x={LEFT - 6} y={y} />
        {[...others, ...odd].map((u) => (
          // biome-ignore lint/a11y/noStaticElementInteractions: a shortcut; the buttons beside it lead to any unit
          <path
            key={u.number}
            d={line(u)}
            fill="none"
            stroke={isOdd(u.number) ? "var(--above)" : "var(--line)"}
            strokeWidth={u.number === chosen ? 2.4 : 1.2}
            strokeDasharray={isOdd(u.number) ? "5 3" : undefined}
            cursor="pointer"
            onClick={() => choose(u.number)}
          >
            <title>{`${dayTime(data.start[u.number] ?? 0, zone)}: ${figure(data.score[u.number], 1)} σ`}</title>
          </path>
        ))}
        {[0, last].map((s, i) => (
          <text
            key={s}
            x={i ? W - 4 : LEFT}
            y={H + 14}
            textAnchor={i ? "end" : "start"}
            fontSize={10.5}
            fill="var(--ink-soft)"
            className="figure"
          >
            {shortWords(s)}
          </text>
        ))}
      </svg>
      <p className="soft small">
        Broken, red: an incident or past the level, the strongest first. Grey: others, spread over the time. A
        press on a line shows it beside.
      </p>
    </section>
  );
}
