import { Button } from "@mantine/core";
import type { Scan } from "../../api/client";
import { figure, plural } from "../../parts/words";
import type { PlanData } from "./plan";
import type { Trial } from "./useTrial";

const WEEK = 7 * 86_400_000;

function lengthWords(ms: number): string {
  const weeks = Math.round(ms / WEEK);
  return weeks > 156 ? plural(Math.round(weeks / 52.18), "year") : plural(weeks, "week");
}

/** What the plan would have said as if live: the replay that is there, or the way to one. */
export function Replays({
  scan,
  stream,
  replay,
  findings,
  length,
  trial,
  onOpen,
}: {
  scan: Scan;
  stream: number;
  replay?: Scan;
  /** Of the replay on this stream. */
  findings?: number;
  length: number;
  trial: Trial;
  onOpen: (scan: number) => void;
}) {
  return (
    <section aria-label="What would it have said?">
      <h2>What would it have said?</h2>
      {replay ? (
        <p className="small tight">
          As if live, each sample judged by what lay before it, this plan would have said{" "}
          <span className="figure">{figure(findings)}</span> findings; they stand in the lane <em>replay</em>.{" "}
          <Button onClick={() => onOpen(replay.id)}>Open the replay</Button>
        </p>
      ) : (
        <p className="small tight">
          In-sample figures flatter: the baseline has seen what it judges.{" "}
          <Button
            disabled={trial.isBusy}
            onClick={() => void trial.run(scan.plan_data as unknown as PlanData, [stream], "replay")}
          >
            Replay all {lengthWords(length)}
          </Button>
        </p>
      )}
    </section>
  );
}
