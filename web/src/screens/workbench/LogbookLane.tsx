import type { Entry } from "../../api/client";
import { laneEntries } from "../../charts/drawing";
import type { Range } from "../../charts/TimePane";
import { VERDICT_WORDS } from "../../parts/marks";
import { dayTime } from "../../parts/words";

/** The annotated history under the values, on the same axis: verdicts by pattern. */
export function LogbookLane({ entries, range, zone }: { entries: Entry[]; range: Range; zone: string }) {
  const x = (ms: number) => ((ms - range[0]) / (range[1] - range[0])) * 100;
  const inSight = laneEntries(entries).filter(
    (e) => Date.parse(e.start) < range[1] && Date.parse(e.end) > range[0],
  );
  return (
    <div style={{ position: "relative", marginRight: "var(--gutter, 108px)" }}>
      <span className="lane-name">logbook</span>
      <div className="lane">
        {inSight.map((e) => {
          const a = Math.max(0, x(Date.parse(e.start)));
          const b = Math.min(100, x(Date.parse(e.end)));
          const words = `${VERDICT_WORDS[e.verdict]}${e.cause ? `: ${e.cause}` : ""}, ${dayTime(Date.parse(e.start), zone)} to ${dayTime(Date.parse(e.end), zone)}`;
          return (
            <div key={e.id}>
              <button
                type="button"
                data-verdict={e.verdict}
                title={words}
                aria-label={words}
                style={{ left: `${a}%`, width: `${b - a}%` }}
              />
              {e.verdict !== "reviewed" && (
                <span style={{ left: `${Math.min(b, 82)}%` }}>{e.cause || e.kind}</span>
              )}
            </div>
          );
        })}
        {inSight.length === 0 && <span className="soft">nothing noted here</span>}
      </div>
    </div>
  );
}
