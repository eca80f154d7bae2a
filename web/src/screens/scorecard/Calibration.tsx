import { figure } from "../../parts/words";
import type { Card } from "./figures";

const W = 340;
const H = 150;
const L = 52;
const R = 20;
const B = 26;
const LOW = 0.01;

/** False findings a stream-week: what the tails promised and what was seen, at the levels in force and at all levels. */
export function Calibration({
  calibration: c,
  levels,
}: {
  calibration: Card["calibration"];
  levels: (number | null)[];
}) {
  return (
    <section aria-label="Promised and seen">
      <h2>
        Promised <span className="soft small plain">and seen: false findings a stream-week</span>
      </h2>
      {c.promised === null || c.seen === null ? (
        <p className="soft">No stream with enough history to promise anything was looked through.</p>
      ) : (
        <>
          {c.levels && <Lines promised={c.levels.promised} seen={c.levels.seen} levels={levels} />}
          <p className="small">
            At the levels in force <strong>{figure(c.promised, 3)}</strong> promised,{" "}
            <strong>{figure(c.seen, 3)}</strong> seen
            {c.seen_ci ? ` (${figure(c.seen_ci[0], 3)} to ${figure(c.seen_ci[1], 3)})` : ""}: {c.false} in{" "}
            {figure(c.weeks, 1)} stream-weeks. <span className="soft">{verdict(c)}</span>
          </p>
        </>
      )}
    </section>
  );
}

function verdict(c: Card["calibration"]): string {
  const [low, high] = c.seen_ci ?? [null, null];
  if (c.promised === null || low === null || high === null || low === undefined || high === undefined)
    return "";
  if (c.promised < low) return "More than promised, and chance alone would hardly make it so.";
  if (c.promised > high) return "Fewer than promised, and chance alone would hardly make it so.";
  return "Chance alone could have made the difference.";
}

function Lines({
  promised,
  seen,
  levels,
}: {
  promised: (number | null)[];
  seen: (number | null)[];
  levels: (number | null)[];
}) {
  const most = Math.max(1, ...[...promised, ...seen].map((v) => v ?? 0));
  const decades = Math.ceil(Math.log10(most / LOW));
  const top = LOW * 10 ** decades;
  const x = (level: number) => L + ((level - 2) / 10) * (W - L - R);
  const y = (v: number) => 8 + (1 - Math.log10(Math.max(v, LOW) / LOW) / decades) * (H - B - 8);
  const path = (values: (number | null)[]) => {
    let out = "";
    values.forEach((v, i) => {
      if (v === null || v === undefined) return;
      out += `${out ? "L" : "M"}${x(levels[i] ?? 2).toFixed(1)} ${y(v).toFixed(1)}`;
    });
    return out;
  };
  const marks = Array.from({ length: decades + 1 }, (_, k) => LOW * 10 ** k).filter((v) => v <= top);
  return (
    <svg
      viewBox={`0 0 ${W} ${H}`}
      width="100%"
      role="img"
      aria-label="False findings a stream-week by level, promised and seen"
    >
      <g fontSize="11.5" fill="var(--ink-soft)" fontFamily="var(--mono)">
        {marks.map((v) => (
          <g key={v}>
            <path d={`M${L} ${y(v)}H${W - R}`} stroke="var(--hair)" />
            <text x={L - 5} y={y(v) + 4} textAnchor="end">
              {v <= LOW ? "≤ 0.01" : Number(v.toPrecision(1))}
            </text>
          </g>
        ))}
        {[2, 4, 6, 8, 10, 12].map((s) => (
          <text key={s} x={x(s)} y={H - 8} textAnchor="middle">
            {s} σ
          </text>
        ))}
      </g>
      <path d={path(promised)} fill="none" stroke="var(--ink)" strokeWidth="1.4" strokeDasharray="5 4" />
      <path d={path(seen)} fill="none" stroke="var(--ink)" strokeWidth="1.8" />
      <text x={W - R - 2} y={20} fontSize="12" textAnchor="end" fill="var(--ink-soft)">
        broken: promised; solid: seen
      </text>
    </svg>
  );
}
