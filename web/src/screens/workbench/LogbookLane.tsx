import { UnstyledButton } from "@mantine/core";
import type { Entry } from "../../api/client";
import { laneEntries } from "../../charts/drawing";
import { LaneRow } from "../../charts/LaneRow";
import laneCss from "../../charts/lane.module.css";
import type { Range } from "../../charts/TimePane";
import { VERDICT_WORDS } from "../../parts/marks";
import { dayTime } from "../../parts/words";

/** About how much of the lane's width a letter takes, in per cent. */
const LETTER = 0.95;

/** Words beside entries, where they find room before the next entry begins. */
function placeWords(entries: { id: number; from: number; left: number; words: string }[]): Set<number> {
  const inOrder = [...entries].sort((a, b) => a.left - b.left);
  const fits = inOrder.filter(
    (e, i) => e.left + e.words.length * LETTER <= Math.max(inOrder[i + 1]?.from ?? 100, 0),
  );
  return new Set(fits.map((e) => e.id));
}

/** The annotated history under the values, on the same axis: verdicts by pattern. */
export function LogbookLane({ entries, range, zone }: { entries: Entry[]; range: Range; zone: string }) {
  const x = (ms: number) => ((ms - range[0]) / (range[1] - range[0])) * 100;
  const inSight = laneEntries(entries).filter((e) => e.start < range[1] && e.end > range[0]);
  const hasWords = placeWords(
    inSight
      .filter((e) => e.verdict !== "reviewed")
      .map((e) => ({
        id: e.id,
        from: x(e.start),
        left: Math.min(100, x(e.end)),
        words: e.cause || e.kind || "",
      })),
  );
  return (
    <LaneRow name="logbook">
      <div className={laneCss.spanLane}>
        {inSight.map((e) => {
          const a = Math.max(0, x(e.start));
          const b = Math.min(100, x(e.end));
          const words = `${VERDICT_WORDS[e.verdict]}${e.cause ? `: ${e.cause}` : ""}, ${dayTime(e.start, zone)} to ${dayTime(e.end, zone)}`;
          return (
            <div key={e.id}>
              <UnstyledButton
                data-verdict={e.verdict}
                title={words}
                aria-label={words}
                style={{ left: `${a}%`, width: `${b - a}%` }}
              />
              {hasWords.has(e.id) && <span style={{ left: `${b}%` }}>{e.cause || e.kind}</span>}
            </div>
          );
        })}
        {inSight.length === 0 && <span className="soft">nothing noted here</span>}
      </div>
    </LaneRow>
  );
}
