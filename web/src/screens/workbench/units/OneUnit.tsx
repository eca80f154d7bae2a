import { Box } from "@mantine/core";
import { pathOf } from "../../../charts/path";
import { ScaleEnds } from "../../../charts/ScaleEnds";
import { figure } from "../../../parts/words";
import { shortWords, type Unit } from "./units";

const W = 420;
const H = 170;
const ERRORS = 46;
const LEFT = 46;
const FOOT = 18;

/** A unit, what it was rebuilt as, and below where along it the two differ. */
export function OneUnit({ unit, name }: { unit: Unit; name: string }) {
  const seen = [...unit.value, ...unit.expected].filter((v): v is number => v !== null);
  const [low, high] = [Math.min(...seen), Math.max(...seen)];
  const last = unit.at_s.at(-1) ?? 1;
  const x = (i: number) => LEFT + ((unit.at_s[i] ?? 0) / (last || 1)) * (W - LEFT - 4);
  const y = (v: number) => 6 + (1 - (v - low) / (high - low || 1)) * (H - 12);
  const off = unit.value.map((v, i) => {
    const [due, usual] = [unit.expected[i] ?? null, unit.spread[i] ?? null];
    return v === null || due === null || !usual ? 0 : Math.abs(v - due) / usual;
  });
  const most = Math.max(...off, 6);
  const worst = off.indexOf(Math.max(...off));
  const words = `in ${name}; furthest from what it was rebuilt as after ${shortWords(unit.at_s[worst] ?? 0)}, ${figure(off[worst], 1)} times the usual error there`;
  return (
    <figure>
      <svg viewBox={`0 0 ${W} ${H + ERRORS + FOOT}`} width="100%" role="img" aria-label={`A unit ${words}`}>
        <ScaleEnds low={low} high={high} x={LEFT - 6} y={y} />
        <path d={pathOf(unit.value, x, y)} fill="none" stroke="var(--ink)" strokeWidth="1.4" />
        <path
          d={pathOf(unit.expected, x, y)}
          fill="none"
          stroke="var(--shift)"
          strokeWidth="1.6"
          strokeDasharray="5 3"
        />
        {off.map((size, i) => (
          <rect
            // biome-ignore lint/suspicious/noArrayIndexKey: a place along the unit is its index
            key={i}
            x={x(i) - 1}
            width={Math.max((W - LEFT) / off.length - 0.6, 0.8)}
            y={H + ERRORS - (ERRORS - 6) * (size / most)}
            height={(ERRORS - 6) * (size / most)}
            fill={i === worst ? "var(--above)" : "var(--line)"}
          />
        ))}
        <text x={LEFT - 6} y={H + ERRORS} textAnchor="end" fontSize={10.5} fill="var(--ink-soft)">
          error
        </text>
        {[0, last / 2, last].map((s, i) => (
          <text
            key={s}
            x={LEFT + (i / 2) * (W - LEFT - 4)}
            y={H + ERRORS + 14}
            textAnchor={i === 0 ? "start" : i === 1 ? "middle" : "end"}
            fontSize={10.5}
            fill="var(--ink-soft)"
            className="figure"
          >
            {shortWords(s)}
          </text>
        ))}
      </svg>
      <Box component="figcaption" ml={0} className="soft small">
        Ink: seen. Broken, ochre: what was expected. {words[0]?.toUpperCase()}
        {words.slice(1)}.
      </Box>
    </figure>
  );
}
