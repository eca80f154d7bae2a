import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, type ChartWindow, get, Problem, type Scan, type Schema } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { figure, plural } from "../../parts/words";
import { type PlanData, standardPlan } from "./plan";
import { Sentence } from "./Sentence";
import type { StreamFacts } from "./Workbench";

interface Props {
  stream: StreamFacts;
  scan?: Scan;
  level: number | null;
  window?: ChartWindow;
  inForce?: Schema["StreamCurve"]["in_force"];
  onScan: (id: number | null) => void;
  onLevel: (level: number | null) => void;
}

/** The plan as a sentence, what would change, and the two things to do with it: try it, adopt it. */
export function PlanPanel({ stream, scan, level, window, onScan, onLevel }: Props) {
  const client = useQueryClient();
  const [draft, setDraft] = useState<PlanData | null>(null);
  const [error, setError] = useState<unknown>(null);
  const [trial, setTrial] = useState<number | null>(null);
  const base = (scan?.plan_data as PlanData | undefined) ?? standardPlan;
  const plan = draft ?? base;
  const shown: PlanData =
    level === null ? plan : { ...plan, flag: { ...plan.flag, level: { sigmas: level } } };
  const isChanged = JSON.stringify(shown) !== JSON.stringify(base);
  const isStanding = scan !== undefined && scan.id === stream.standing_scan;
  // biome-ignore lint/correctness/useExhaustiveDependencies: another scan starts with its own plan
  useEffect(() => setDraft(null), [scan?.id]);

  const running = useQuery({
    queryKey: ["scan", trial],
    enabled: trial !== null,
    queryFn: () => get(api.GET("/api/v1/scans/{id}", { params: { path: { id: trial ?? 0 } } })),
    refetchInterval: (q) =>
      q.state.data && ["done", "failed", "cancelled"].includes(q.state.data.state) ? false : 700,
  });
  const state = running.data?.state;
  // biome-ignore lint/correctness/useExhaustiveDependencies: once, when the trial is through
  useEffect(() => {
    if (state !== "done" || trial === null) return;
    setTrial(null);
    onScan(trial);
  }, [state]);

  const run = async (streams: number[]) => {
    setError(null);
    try {
      const started = await get(
        api.POST("/api/v1/scans", { body: { plan: shown as unknown as Record<string, unknown>, streams } }),
      );
      setTrial(started.id);
    } catch (problem) {
      setError(problem);
    }
  };
  const adopt = async (streams: number[]) => {
    if (!scan) return;
    setError(null);
    try {
      await api.POST("/api/v1/scans/{id}/adopt", { params: { path: { id: scan.id } }, body: { streams } });
      await client.invalidateQueries();
      onScan(null);
    } catch (problem) {
      setError(problem);
    }
  };
  const failed = useFailure(running.data);
  const problem = error ?? failed;
  const wrong = problem instanceof Problem ? placesOf(problem) : [];
  const isBusy = trial !== null && state !== "failed" && state !== "cancelled";
  return (
    <section aria-label="Plan">
      <div style={{ display: "flex", alignItems: "baseline", gap: 8 }}>
        <h2>Plan</h2>
        <span className="soft small">{scan ? `${scan.plan}, v${scan.version}` : "the standard plan"}</span>
        <span className="soft small" style={{ marginLeft: "auto" }} role="status">
          {isBusy
            ? "running"
            : isChanged
              ? "changed, not run"
              : scan
                ? isStanding
                  ? "standing · current"
                  : "trial · current"
                : "not scanned"}
        </span>
      </div>
      <Sentence
        plan={shown}
        resolved={window?.resolved}
        levels={window ? { above: window.level_above ?? null, below: window.level_below ?? null } : null}
        wrong={wrong}
        onChange={(next) => {
          setDraft(next);
          onLevel(null);
        }}
      />
      {problem != null && <Trouble error={problem} />}
      {isBusy && (
        <p role="status" className="soft small">
          {running.data?.state === "running" ? "Scanning" : "Waiting for a worker"}
        </p>
      )}
      <div className="acts">
        <button
          type="button"
          className="act"
          disabled={isBusy || (!isChanged && scan !== undefined)}
          onClick={() => run([stream.id])}
        >
          Run as trial
        </button>
        {stream.family.length > 1 && (
          <button
            type="button"
            className="act"
            disabled={isBusy || (!isChanged && scan !== undefined && scan.streams > 1)}
            onClick={() => run(stream.family)}
          >
            Try on all {figure(stream.family.length)}
          </button>
        )}
        {(isChanged || (scan && !isStanding)) && (
          <button
            type="button"
            className="act"
            onClick={() => {
              setDraft(null);
              setError(null);
              onLevel(null);
              if (!isChanged) onScan(null);
            }}
          >
            {isChanged ? "Put back" : "Back to standing"}
          </button>
        )}
        {scan && !isStanding && !isChanged && (
          <button
            type="button"
            className="act"
            onClick={() => adopt(scan.streams > 1 ? stream.family : [stream.id])}
          >
            Make it standing{scan.streams > 1 ? ` for ${plural(scan.streams, "stream")}` : ""}
          </button>
        )}
      </div>
    </section>
  );
}

function useFailure(scan?: Scan): Problem | null {
  const jobId = scan?.state === "failed" ? scan.job : null;
  const job = useQuery({
    queryKey: ["job", jobId],
    enabled: Boolean(jobId),
    queryFn: () => get(api.GET("/api/v1/jobs/{id}", { params: { path: { id: jobId ?? 0 } } })),
  });
  if (!jobId || !job.data) return null;
  const [title = "the scan failed", ...rest] = (job.data.message ?? "").split("; ");
  const place = title.includes("season") ? "baseline.seasons" : "";
  return new Problem(422, title, place, rest.join("; ") || "change the plan and run it again");
}

function placesOf(problem: Problem): string[] {
  return [problem.place, ...problem.problems.map((p) => p.place)].filter(Boolean);
}
