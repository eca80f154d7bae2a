import { Group } from "@mantine/core";
import type { ChartWindow } from "../../api/client";
import { isUnjudged } from "../../charts/drawing";
import { UNDER_PLOT } from "../../charts/paneOptions";
import type { Range } from "../../charts/TimePane";
import { isBad, kindWords, Mark } from "../../parts/marks";
import workbenchCss from "./workbench.module.css";

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
export function Legend({
  view,
  range,
  badSide,
  earlier,
}: {
  view: ChartWindow;
  range: Range;
  badSide: string;
  /** The stretch laid under the line, in words. */
  earlier: string;
}) {
  const inSight = (view.findings ?? []).filter((f) => f.start <= range[1] && f.end >= range[0]);
  const kinds = new Map(inSight.map((f) => [f.kind === "shift" ? `shift ${f.direction}` : f.direction, f]));
  const has = (is: (i: number) => boolean) =>
    view.time.some((t, i) => t >= range[0] && t <= range[1] && is(i));
  const hasGap = has((i) => view.value[i] === null);
  const hasUnjudged = view.score !== undefined && has((i) => isUnjudged(view.value[i], view.score?.[i]));
  return (
    <Group
      component="p"
      gap="2px 16px"
      {...UNDER_PLOT}
      my={4}
      className={`${workbenchCss.legend} small`}
      aria-hidden="true"
    >
      <span>
        <Sample /> seen
      </span>
      {view.expected && (
        <>
          <span>
            <Sample dash="4 4" /> expected
          </span>
          {view.spread && (
            <span>
              <Sample band /> range at the level
            </span>
          )}
        </>
      )}
      {[...kinds.values()].map((f) => (
        <span key={`${f.kind}${f.direction}`}>
          <Mark kind={f.kind} direction={f.direction} isBad={isBad(f, badSide)} />{" "}
          {f.kind === "shift" ? kindWords(f) : f.direction || "without a side"}
        </span>
      ))}
      {inSight.some((f) => f.verdict) && <span className="soft">pale: has a verdict</span>}
      {earlier && (
        <span>
          <Sample dash="1 3" /> {earlier}
        </span>
      )}
      {hasUnjudged && <span className="soft">dots at the bottom: not judged</span>}
      {hasGap && <span className="soft">hatched: no samples</span>}
    </Group>
  );
}
