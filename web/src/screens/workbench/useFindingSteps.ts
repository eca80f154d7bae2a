import { useState } from "react";
import type { Finding } from "../../api/client";
import type { Range } from "../../charts/TimePane";
import { findingLabel } from "../../parts/FindingsList";

/**
 * From one finding to the next, by key, by pointer, or from the list; each is announced.
 *
 * findings: all of the stream, null until they have come; drawn: those on the chart, which may come first and can be
 * picked from then on.
 */
export function useFindingSteps(
  findings: Finding[] | null,
  drawn: Finding[],
  chosen: number | null,
  [from, to]: Range,
  choose: (finding: Finding) => void,
) {
  const [announced, setAnnounced] = useState("");
  const take = (finding: Finding) => {
    choose(finding);
    const at = findings?.findIndex((f) => f.id === finding.id) ?? -1;
    const place = findings && at >= 0 ? ` ${at + 1} of ${findings.length}` : "";
    setAnnounced(`Finding${place}: ${findingLabel(finding)}`);
  };
  const step = (by: number) => {
    if (!findings) return;
    const at = findings.findIndex((f) => f.id === chosen);
    // Until one is chosen, what is in sight comes first: n from the left, p from the right.
    const next =
      at >= 0
        ? findings[at + by]
        : by > 0
          ? findings.find((f) => f.end >= from)
          : findings.findLast((f) => f.start <= to);
    if (next) take(next);
    else
      setAnnounced(
        findings.length ? `That was the ${by > 0 ? "last" : "first"} finding.` : "There is no finding.",
      );
  };
  const pick = (moment: number, tolerance: number): boolean => {
    const near = (findings ?? drawn).filter(
      (f) => f.start - tolerance <= moment && f.end + tolerance >= moment,
    );
    const [nearest] = near.sort((f, g) => Math.abs(f.start - moment) - Math.abs(g.start - moment));
    if (nearest) take(nearest);
    return nearest !== undefined;
  };
  return { announced, take, step, pick };
}
