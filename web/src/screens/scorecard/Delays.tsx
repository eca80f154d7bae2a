import { duration } from "../../parts/words";
import type { Card } from "./figures";

const W = 340;
const H = 150;
const L = 34;
const B = 26;

/** How many of the found incidents had shown themselves after so long: the share over the delay. */
export function Delays({ delays }: { delays: Card["delays"] }) {
  const n = delays.length;
  // A delay of nothing has no place on a logarithmic axis: the axis begins at a minute.
  const at = (s: number) => Math.log10(Math.max(s, 60) / 60);
  const most = Math.max(2, ...delays.map((d) => at(d.seconds)));
  const x = (s: number) => L + (at(s) / most) * (W - L - 12);
  const y = (share: number) => 8 + (1 - share) * (H - B - 8);
  let path = `M${L} ${y(0)}`;
  delays.forEach((d, i) => {
    path += `H${x(d.seconds).toFixed(1)}V${y((i + 1) / n).toFixed(1)}`;
  });
  path += `H${W - 12}`;
  const marks = [60, 3_600, 86_400, 604_800].filter((s) => at(s) <= most);
  const late = delays.at(-1);
  return (
    <section aria-label="Delay">
      <h2>
        Delay <span className="soft small plain">until the first sign of a found incident</span>
      </h2>
      {n === 0 ? (
        <p className="soft">No found incident has a first sign.</p>
      ) : (
        <>
          <svg
            viewBox={`0 0 ${W} ${H}`}
            width="100%"
            role="img"
            aria-label={`Share of ${n} found incidents by delay`}
          >
            <g fontSize="11.5" fill="var(--ink-soft)" fontFamily="var(--mono)">
              {[0, 0.5, 1].map((g) => (
                <g key={g}>
                  <path d={`M${L} ${y(g)}H${W - 12}`} stroke="var(--hair)" />
                  <text x={L - 5} y={y(g) + 4} textAnchor="end">
                    {g}
                  </text>
                </g>
              ))}
              {marks.map((s) => (
                <g key={s}>
                  <path d={`M${x(s)} ${y(0)}V${y(1)}`} stroke="var(--hair)" />
                  <text x={x(s)} y={H - 8} textAnchor="middle">
                    {s === 60 ? "≤ 1 min" : s === 3_600 ? "1 h" : s === 86_400 ? "1 d" : "7 d"}
                  </text>
                </g>
              ))}
            </g>
            <path d={path} fill="none" stroke="var(--ink)" strokeWidth="1.8" />
          </svg>
          {late && (
            <p className="soft small">
              The latest: {duration(late.seconds)}, {late.cause || late.kind || "no cause noted"}.
            </p>
          )}
        </>
      )}
    </section>
  );
}
