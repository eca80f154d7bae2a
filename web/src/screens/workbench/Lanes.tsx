import type { Finding, Scan } from "../../api/client";
import { LaneRow } from "../../charts/LaneRow";
import laneCss from "../../charts/lane.module.css";
import type { Range } from "../../charts/TimePane";
import { kindWords } from "../../parts/marks";
import { dayTime, duration, figure } from "../../parts/words";

/** Letters of pinned scans, in the order they were pinned; A is the one the chart shows. */
export const LETTERS = ["A", "B", "C", "D"];

export function scanWords(scan: Scan): string {
  return `${scan.plan} v${scan.version}, ${scan.mode === "replay" ? "replayed" : scan.is_standing ? "standing" : "trial"}`;
}

/** Findings of one scan as a lane on the shared axis: above and below by shape and colour, shifts as ticks. */
export function FindingLane({
  name,
  words,
  findings,
  range,
  zone,
}: {
  name: string;
  words: string;
  findings: Finding[];
  range: Range;
  zone: string;
}) {
  const x = (ms: number) => ((ms - range[0]) / (range[1] - range[0])) * 1000;
  const inSight = findings.filter((f) => f.start <= range[1] && f.end >= range[0]);
  return (
    <LaneRow name={name}>
      <div className={laneCss.spanLane}>
        <svg
          width="100%"
          height="18"
          viewBox="0 0 1000 18"
          preserveAspectRatio="none"
          role="img"
          aria-label={`${words}: ${inSight.length} findings in sight`}
        >
          {inSight.map((f) => {
            const a = Math.max(0, x(f.start));
            const b = Math.max(a + 3, Math.min(1000, x(f.end)));
            const isBelow = f.direction === "below";
            const colour =
              f.kind === "shift"
                ? "var(--shift)"
                : f.direction === ""
                  ? "var(--ink)"
                  : isBelow
                    ? "var(--below)"
                    : "var(--above)";
            return (
              <rect
                key={f.id}
                x={a}
                y={f.kind === "shift" ? 1 : isBelow ? 9 : 2}
                width={f.kind === "shift" ? 2.5 : b - a}
                height={f.kind === "shift" ? 16 : 7}
                fill={colour}
              >
                <title>{findingWords(f, zone)}</title>
              </rect>
            );
          })}
        </svg>
        {inSight.length === 0 && <span className="soft first">no findings in sight</span>}
      </div>
    </LaneRow>
  );
}

function findingWords(f: Finding, zone: string): string {
  const raised =
    f.raised === null ? "" : `, known ${duration(Math.max(0, (f.raised - f.start) / 1000))} after it began`;
  return `${kindWords(f)}, ${figure(f.score, 1)} σ, ${dayTime(f.start, zone)} to ${dayTime(f.end, zone)}${raised}`;
}
