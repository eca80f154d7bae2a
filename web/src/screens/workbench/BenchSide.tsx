import { Box, Button, Stack, Tabs, VisuallyHidden } from "@mantine/core";
import type { UseQueryResult } from "@tanstack/react-query";
import type { ChartWindow, Finding, Scan, Schema } from "../../api/client";
import { Trouble, Waiting } from "../../parts/ask";
import { FindingsList } from "../../parts/FindingsList";
import { Hint } from "../../parts/Hint";
import { begun, figure } from "../../parts/words";
import type { BenchAddress } from "./address";
import { ChosenFinding } from "./ChosenFinding";
import { Compare } from "./Compare";
import { Examination } from "./Examination";
import { KeepWatch } from "./KeepWatch";
import { PlanPanel } from "./PlanPanel";
import { standardPlan } from "./plan";
import { Replays } from "./Replays";
import { promiseWords, ScoreStrip } from "./ScoreStrip";
import type { StreamFacts } from "./types";
import { unitLength } from "./units/units";
import type { useBeside } from "./useBeside";
import type { Trial } from "./useTrial";
import workbenchCss from "./workbench.module.css";

interface Props {
  stream: StreamFacts;
  scanId: number | null;
  scan?: Scan;
  /** The scan is being read: until then nothing is known of its plan. */
  isReading: boolean;
  view?: ChartWindow;
  curve: UseQueryResult<Schema["StreamCurve"]>;
  level: number | null;
  setLevel: (level: number | null) => void;
  side: "findings" | "plan";
  findings: Finding[];
  chosen: number | null;
  choose: (finding: Finding) => void;
  beside: ReturnType<typeof useBeside>;
  trial: Trial;
  /** How long the stream is, in ms. */
  length: number;
  /** What a screen reader is to say. */
  announced: string;
  change: (changes: Partial<BenchAddress>) => void;
}

/** Beside the charts: the findings, or the plan and its figures. */
export function BenchSide(props: Props) {
  const { stream, findings, chosen, side, change } = props;
  const open = findings.find((f) => f.id === chosen);
  return (
    <Box
      component="aside"
      h="100%"
      p="10px 16px 20px"
      className={`${workbenchCss.benchSide} side scrolls`}
      aria-label="Findings, plan and figures"
    >
      <VisuallyHidden component="p" role="status">
        {props.announced}
      </VisuallyHidden>
      <Hint name="bench">
        Ink is what was seen, broken what was expected, the wash what passes at the level. <kbd>N</kbd> goes
        to the next finding and shows what is behind it; <kbd>I</kbd> <kbd>F</kbd> <kbd>X</kbd> <kbd>U</kbd>{" "}
        say what it was. Drag the level in the score pane: precision and recall follow. Dotted words change
        the plan.
      </Hint>
      <Tabs value={side} onChange={(value) => change({ side: value === "findings" ? value : "plan" })}>
        <Tabs.List mb={6}>
          <Tabs.Tab value="findings">Findings {figure(findings.length)}</Tabs.Tab>
          <Tabs.Tab value="plan">Plan and figures</Tabs.Tab>
        </Tabs.List>
        <Tabs.Panel value="findings">
          <FindingsList findings={findings} chosen={chosen} choose={props.choose} badSide={stream.bad_side}>
            {open && side === "findings" && <ChosenFinding key={open.id} finding={open} />}
          </FindingsList>
        </Tabs.Panel>
        <Tabs.Panel value="plan">
          <PlanSide {...props} />
        </Tabs.Panel>
      </Tabs>
    </Box>
  );
}

function PlanSide(props: Props) {
  const { stream, scanId, scan, view, curve, level, setLevel, beside, trial, change } = props;
  const { finished, replay, pinned, lanes, replayed } = beside;
  const isFit = scan?.mode === "fit";
  // Units are judged by a fit alone.
  const isLive = isFit && !(view && unitLength(view) !== null);
  return (
    <>
      {scanId === null && (
        <p>
          This stream was never scanned.{" "}
          <Button
            variant="filled"
            disabled={trial.isBusy}
            onClick={() => void trial.run(standardPlan, [stream.id])}
          >
            Scan it with the standard plan
          </Button>
        </p>
      )}
      {props.isReading ? (
        <Waiting what="Reading the plan" />
      ) : (
        <PlanPanel
          key={scan?.id}
          stream={stream}
          scan={scan}
          level={level}
          window={view}
          trial={trial}
          promise={curve.data ? promiseWords(curve.data, level) : ""}
          onScan={(value) => change({ scan: value, level: null, finding: null, side: null })}
          onLevel={setLevel}
        />
      )}
      {curve.data && <ScoreStrip curve={curve.data} level={level} scan={scan} replay={replayed.data} />}
      {scan && isLive && scan.id === stream.standing_scan && <KeepWatch scan={scan} stream={stream} />}
      {scan && isLive && (
        <Replays
          scan={scan}
          stream={stream.id}
          replay={replay}
          findings={lanes[0]?.window?.findings?.length}
          length={props.length}
          trial={trial}
          onOpen={(value) => change({ scan: value, finding: null })}
        />
      )}
      {scanId !== null && isFit && view && (
        <Examination
          stream={stream}
          scanId={scanId}
          isBusy={trial.isBusy}
          onTry={(plan) => void trial.run(plan, [stream.id])}
        />
      )}
      {scan && (
        <Compare
          stream={stream}
          scan={scan}
          others={finished}
          pinned={pinned}
          onPin={(ids) => change({ beside: ids })}
        />
      )}
      {curve.isError && <Trouble error={curve.error} retry={() => curve.refetch()} />}
      {view?.notes && view.notes.length > 0 && (
        <section>
          <h2>What it rests on</h2>
          <Stack component="ul" gap={3} m="6px 0 0" pl={16} fz={13} className="notes">
            {view.notes.map((note) => (
              <li key={note}>{begun(note)}.</li>
            ))}
            {view.level_note && <li>Level: {view.level_note}.</li>}
          </Stack>
        </section>
      )}
    </>
  );
}
