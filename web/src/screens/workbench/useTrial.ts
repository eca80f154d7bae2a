import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, get, Problem, type Scan } from "../../api/client";
import { ENDED } from "../../parts/jobs";
import type { PlanData } from "./plan";

export interface Trial {
  run: (plan: PlanData, streams: number[], mode?: "fit" | "replay") => Promise<void>;
  cancel: () => Promise<void>;
  /** Waiting, or how far it is: streams done of all. */
  words: string | null;
  /** Of a network that is just being trained, null where none is. */
  training: Training | null;
  isBusy: boolean;
  problem: unknown;
  forget: () => void;
}

/** Errors of a network's training so far; number : which network of the scan it is, counted from 1. */
export interface Training {
  number: number;
  epoch_losses: [number, number | null][];
}

/** One scan at a time as a job: its progress, what went wrong, and a call when it is through. */
export function useTrial(onDone: (scan: Scan) => void): Trial {
  const [id, setId] = useState<number | null>(null);
  const [error, setError] = useState<unknown>(null);
  const [isAsking, setAsking] = useState(false);
  const running = useQuery({
    queryKey: ["scan", id],
    enabled: id !== null,
    queryFn: () => get(api.GET("/api/v1/scans/{id}", { params: { path: { id: id ?? 0 } } })),
    refetchInterval: (q) => (q.state.data && ENDED.includes(q.state.data.state) ? false : 700),
  });
  const scan = running.data;
  const state = id === null ? undefined : scan?.state;
  const jobId = scan?.job ?? null;
  const job = useQuery({
    queryKey: ["job", jobId, state],
    enabled: id !== null && jobId !== null,
    queryFn: () => get(api.GET("/api/v1/jobs/{id}", { params: { path: { id: jobId ?? 0 } } })),
    refetchInterval: state && ENDED.includes(state) ? false : 700,
  });
  // biome-ignore lint/correctness/useExhaustiveDependencies: once, when the scan is through
  useEffect(() => {
    if (state !== "done" || !scan) return;
    setId(null);
    onDone(scan);
  }, [state]);
  const again = (job.data?.attempt ?? 1) > 1 ? "its worker was lost and another took over, " : "";
  return {
    run: async (plan, streams, mode = "fit") => {
      setError(null);
      setAsking(true);
      try {
        const started = await get(
          api.POST("/api/v1/scans", {
            body: { plan: plan as unknown as Record<string, unknown>, streams, mode },
          }),
        );
        setId(started.id);
      } catch (problem) {
        setError(problem);
      } finally {
        setAsking(false);
      }
    },
    cancel: async () => {
      if (jobId === null) return;
      try {
        await get(api.DELETE("/api/v1/jobs/{id}", { params: { path: { id: jobId } } }));
      } catch (problem) {
        setError(problem);
      }
    },
    words:
      id === null
        ? null
        : state === "running" && job.data?.total
          ? `${again}${job.data.done ?? 0} of ${job.data.total} streams`
          : state === "cancelled"
            ? "cancelled; nothing of it is kept"
            : "waiting for a worker",
    training: state === "running" ? ((job.data?.result.training as Training | undefined) ?? null) : null,
    isBusy: isAsking || (id !== null && (state === undefined || !ENDED.includes(state))),
    problem: error ?? (state === "failed" ? failure(job.data?.message ?? "") : null),
    forget: () => {
      setError(null);
      setId(null);
    },
  };
}

function failure(message: string): Problem {
  const [title = "the scan failed", ...rest] = message.split("; ");
  const place = title.includes("season") ? "baseline.seasons" : "";
  return new Problem(
    422,
    title || "the scan failed",
    place,
    rest.join("; ") || "change the plan and run it again",
  );
}
