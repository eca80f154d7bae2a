import { Box, Button, Group } from "@mantine/core";
import { useState } from "react";
import { type ChartWindow, Problem, type Scan } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { figure } from "../../parts/words";
import { Adopt, Unadopt } from "./Adopt";
import { LossSoFar } from "./Loss";
import { PlanText } from "./PlanText";
import { type PlanData, standardPlan } from "./plan";
import { Selection } from "./Selection";
import { Sentence } from "./Sentence";
import type { StreamFacts } from "./types";
import type { Trial } from "./useTrial";
import { Versions } from "./Versions";

interface Props {
  stream: StreamFacts;
  scan?: Scan;
  level: number | null;
  window?: ChartWindow;
  trial: Trial;
  /** What the level in force promises, in words. */
  promise: string;
  onScan: (id: number | null) => void;
  onLevel: (level: number | null) => void;
}

/** Another scan starts with its own plan: give each its key.
 *
 * The plan as a sentence, what would change, and what to do with it: try it, replay it, adopt it. */
export function PlanPanel({ stream, scan, level, window, trial, promise, onScan, onLevel }: Props) {
  const [draft, setDraft] = useState<PlanData | null>(null);
  const [isText, setText] = useState(false);
  const [hasVersions, setVersions] = useState(false);
  const base = (scan?.plan_data as PlanData | undefined) ?? standardPlan;
  const plan = draft ?? base;
  const shown: PlanData =
    level === null ? plan : { ...plan, flag: { ...plan.flag, level: { sigmas: level } } };
  const isChanged = JSON.stringify(shown) !== JSON.stringify(base);
  const isStanding = scan !== undefined && scan.id === stream.standing_scan;

  const change = (next: PlanData) => {
    setDraft(next);
    onLevel(null);
  };
  const problem = trial.problem;
  const isBusy = trial.isBusy;
  const isReplay = scan?.mode === "replay";
  const canAdopt = scan !== undefined && !isStanding && !isChanged && !isReplay;
  const wrong = problem instanceof Problem ? placesOf(problem) : [];
  return (
    <section aria-label="Plan">
      <Group align="baseline" gap={8}>
        <h2>Plan</h2>
        <span className="soft small">{scan ? `${scan.plan}, v${scan.version}` : "the standard plan"}</span>
        <Box component="span" ml="auto" className="soft small" role="status">
          {isBusy
            ? "running"
            : isChanged
              ? "changed, not run"
              : scan
                ? isStanding
                  ? "standing · current"
                  : isReplay
                    ? "replay · current"
                    : "trial · current"
                : "not scanned"}
        </Box>
      </Group>
      <Sentence
        plan={shown}
        resolved={window?.resolved}
        levels={window ? { above: window.level_above ?? null, below: window.level_below ?? null } : null}
        wrong={wrong}
        promise={isChanged ? "" : promise}
        onChange={change}
      />
      {isText && <PlanText plan={shown} onChange={change} />}
      {problem != null && <Trouble error={problem} />}
      {trial.words && (
        <p role="status" className="soft small">
          Scan: {trial.words} {isBusy && <Button onClick={() => void trial.cancel()}>Cancel</Button>}
        </p>
      )}
      {trial.training && <LossSoFar training={trial.training} />}
      <Group gap="6px 18px">
        <Button aria-expanded={isText} onClick={() => setText(!isText)}>
          {isText ? "Hide the text" : "As text"}
        </Button>
        <Button
          disabled={isBusy || (!isChanged && scan !== undefined)}
          onClick={() => void trial.run(shown, [stream.id])}
        >
          Run as trial
        </Button>
        {stream.family.length > 1 && (
          <Button
            disabled={isBusy || (!isChanged && scan !== undefined && scan.streams > 1)}
            onClick={() => void trial.run(shown, stream.family)}
          >
            Try on all {figure(stream.family.length)}
          </Button>
        )}
        <Selection stream={stream} isBusy={isBusy} onTry={(ids) => void trial.run(shown, ids)} />
        {(isChanged || (scan && !isStanding)) && (
          <Button
            onClick={() => {
              setDraft(null);
              trial.forget();
              onLevel(null);
              if (!isChanged) onScan(null);
            }}
          >
            {isChanged ? "Put back" : "Back to standing"}
          </Button>
        )}
        {isStanding && <Unadopt stream={stream.id} onBack={() => onScan(null)} />}
        {scan && (
          <Button aria-expanded={hasVersions} onClick={() => setVersions(!hasVersions)}>
            {hasVersions ? "Hide the versions" : "Versions"}
          </Button>
        )}
      </Group>
      {canAdopt && <Adopt scan={scan} stream={stream.id} onAdopted={() => onScan(null)} />}
      {scan && hasVersions && <Versions scan={scan} onTake={change} />}
    </section>
  );
}

function placesOf(problem: Problem): string[] {
  return [problem.place, ...problem.problems.map((p) => p.place)].filter(Boolean);
}
