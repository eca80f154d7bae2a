import type { ChartWindow } from "../../api/client";
import type { Range } from "../../charts/TimePane";
import { isBad, kindWords, Mark } from "../../parts/marks";

function Sample({ dash, band }: { dash?: string; band?: boolean }) {
  return (
    <svg width="26" height="10" viewBox="0 0 26 10" aria-hidden="true">
      {band ? (
        <rect x="0" y="1" width="26" height="8" fill="var(--band)" />
      ) : (
        <path
          d="M0 5h26"
          stroke={dash ? "var(--line)" : "var(--ink)"}
          strokeWidth="1.4"
          strokeDasharray={dash}
        />
      )}
    </svg>
  );
}

/** Names the marks that are in sight, and no others. */
export function Legend({ view, range, badSide }: { view: ChartWindow; range: Range; badSide: string }) {
  const inSight = (view.findings ?? []).filter((f) => f.start <= range[1] && f.end >= range[0]);
  const kinds = new Map(inSight.map((f) => [f.kind === "shift" ? `shift ${f.direction}` : f.direction, f]));
  const hasGap = view.value.some(
    (v, i) => v === null && (view.time[i] ?? 0) >= range[0] && (view.time[i] ?? 0) <= range[1],
  );
  return (
    <p className="small legend" aria-hidden="true">
      <span>
        <Sample /> seen
      </span>
      {view.expected && (
        <>
          <span>
            <Sample dash="4 4" /> expected
          </span>
          <span>
            <Sample band /> range at the level
          </span>
        </>
      )}
      {[...kinds.values()].map((f) => (
        <span key={`${f.kind}${f.direction}`}>
          <Mark kind={f.kind} direction={f.direction} isBad={isBad(f, badSide)} />{" "}
          {f.kind === "shift" ? kindWords(f) : f.direction || "without a side"}
        </span>
      ))}
      {inSight.some((f) => f.verdict) && <span className="soft">pale: has a verdict</span>}
      {hasGap && <span className="soft">hatched: no samples</span>}
    </p>
  );
}
