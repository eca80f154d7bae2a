import { day, dayOf, plural } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import type { Rehearsed } from "./words";

const TALL = 96;
const SLOT = 64;
const LEFT = 34;

/** Findings of each week behind the notices they were joined into. */
export function Weeks({ weeks }: { weeks: Rehearsed["per_week"] }) {
  const most = Math.max(1, ...weeks.map((w) => w.findings));
  const tall = (n: number) => (n / most) * (TALL - 16);
  const wide = LEFT + weeks.length * SLOT;
  const words = weeks
    .map(
      (w) =>
        `${day(Date.parse(w.begin), fleetZone())}: ${plural(w.findings, "finding")}, ${plural(w.notices, "notice")}`,
    )
    .join("; ");
  return (
    <svg
      role="img"
      aria-label={`By week: ${words}`}
      viewBox={`0 0 ${wide} ${TALL + 22}`}
      width={wide}
      height={TALL + 22}
    >
      <text fontSize={10.5} fill="var(--ink-soft)" x={LEFT - 6} y={TALL - tall(most) + 4} textAnchor="end">
        {most}
      </text>
      <text fontSize={10.5} fill="var(--ink-soft)" x={LEFT - 6} y={TALL + 3} textAnchor="end">
        0
      </text>
      <line stroke="var(--line)" x1={LEFT} x2={wide} y1={TALL} y2={TALL} />
      {weeks.map((w, i) => (
        <g key={w.begin} transform={`translate(${LEFT + i * SLOT + 8} 0)`}>
          <rect fill="var(--band)" y={TALL - tall(w.findings)} width={38} height={tall(w.findings)} />
          <rect fill="var(--ink)" y={TALL - tall(w.notices)} width={38} height={tall(w.notices)} />
          <text
            fontSize={10.5}
            fill="var(--ink-soft)"
            x={19}
            y={TALL - tall(w.findings) - 4}
            textAnchor="middle"
          >
            {w.findings}→{w.notices}
          </text>
          <text fontSize={10.5} fill="var(--ink-soft)" x={19} y={TALL + 15} textAnchor="middle">
            {dayOf(Date.parse(w.begin), fleetZone())}
          </text>
        </g>
      ))}
    </svg>
  );
}
