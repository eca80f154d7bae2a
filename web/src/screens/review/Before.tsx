import type { Finding } from "../../api/client";
import { pathOf } from "../../charts/path";
import { SideBySide } from "../../parts/SideBySide";
import { day } from "../../parts/words";

type Past = {
  start: number;
  values: (number | null)[];
  expected: (number | null)[];
  lower: (number | null)[];
  upper: (number | null)[];
};

/** The same stretch in the weeks before, as small charts on one common scale. */
export function Before({ finding, before }: { finding: Finding; before: Record<string, unknown>[] }) {
  const past = before as unknown as Past[];
  const seen = past.flatMap((p) => [...p.values, ...p.expected]).filter((v): v is number => v !== null);
  const low = Math.min(...seen);
  const high = Math.max(...seen);
  const weekday = new Intl.DateTimeFormat("en-GB", { weekday: "long", timeZone: finding.zone }).format(
    finding.start,
  );
  return (
    <section>
      <h2>
        {past.length ? `The ${past.length} ${weekday}s before` : "The weeks before"}{" "}
        <span className="soft small plain">
          {past.length
            ? `same scale${finding.unit && `, ${finding.unit}`}`
            : "there is no history that far back"}
        </span>
      </h2>
      <SideBySide of="repeat(8, 1fr)" gap={10} mt={4} className="before">
        {past.map((p) => (
          <figure key={p.start} className="under">
            <Small past={p} low={low} high={high} />
            <figcaption className="soft small">{day(p.start, finding.zone)}</figcaption>
          </figure>
        ))}
      </SideBySide>
    </section>
  );
}

function Small({ past, low, high }: { past: Past; low: number; high: number }) {
  const n = past.values.length;
  const x = (i: number) => (i / Math.max(1, n - 1)) * 100;
  const y = (v: number) => 46 - ((v - low) / (high - low || 1)) * 42;
  const line = (values: (number | null)[]) => pathOf(values, x, y);
  const edge = (values: (number | null)[]) => values.map((v, i) => [i, v] as const);
  const band = [...edge(past.upper), ...edge(past.lower).reverse()]
    .filter((p): p is readonly [number, number] => p[1] !== null)
    .map(([i, v]) => `${x(i).toFixed(1)},${Math.min(50, Math.max(-2, y(v))).toFixed(1)}`)
    .join(" ");
  return (
    <svg
      className="fill"
      height={48}
      viewBox="0 0 100 48"
      preserveAspectRatio="none"
      role="img"
      aria-label="a week before"
    >
      <polygon points={band} fill="var(--band)" />
      <path
        d={line(past.values)}
        fill="none"
        stroke="var(--ink)"
        strokeWidth="1.1"
        vectorEffect="non-scaling-stroke"
      />
    </svg>
  );
}
