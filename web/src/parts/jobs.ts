import { useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { api, get, type Job, Problem } from "../api/client";

/** What a job or a scan is when it is over. */
export const ENDED = ["done", "failed", "cancelled"];

const LOOK_MS = 400;

/** Wait until a job is over. Throws a Problem with its message where it did not go well. */
export async function ended(id: number, signal?: AbortSignal): Promise<Job> {
  for (;;) {
    if (signal?.aborted) {
      // Nobody waits for it any more.
      await api.DELETE("/api/v1/jobs/{id}", { params: { path: { id } } });
      throw signal.reason;
    }
    const job = await get(api.GET("/api/v1/jobs/{id}", { params: { path: { id } } }));
    if (job.state === "done") return job;
    if (ENDED.includes(job.state))
      throw new Problem(409, job.message || `the job was ${job.state}`, "", "correct it and try again");
    await new Promise((next) => setTimeout(next, LOOK_MS));
  }
}

/** What is counted at once, or by a job and then requested again. */
export async function counted<T extends object>(
  ask: () => Promise<T | { counting_job: number }>,
): Promise<T> {
  return worked<T, { counting_job: number }>(ask, (answer) =>
    "counting_job" in answer ? (answer.counting_job as number) : null,
  );
}

/** What is answered at once, or made by a job and then requested again. jobOf : the job's number, null where it is there. */
export async function worked<T extends object, U extends object>(
  ask: () => Promise<T | U>,
  jobOf: (answer: T | U) => number | null,
  signal?: AbortSignal,
): Promise<T> {
  for (;;) {
    const answer = await ask();
    const job = jobOf(answer);
    if (job === null) return answer as T;
    await ended(job, signal);
  }
}

/** A job by its number until it is over; onDone is called once when it went well. */
export function useJob(id: number | null, onDone: (job: Job) => void): Job | undefined {
  const job = useQuery({
    queryKey: ["job", id],
    enabled: id !== null,
    queryFn: () => get(api.GET("/api/v1/jobs/{id}", { params: { path: { id: id ?? 0 } } })),
    refetchInterval: (q) => (q.state.data && ENDED.includes(q.state.data.state) ? false : LOOK_MS),
  });
  const found = job.data;
  // biome-ignore lint/correctness/useExhaustiveDependencies: once, when the job is through
  useEffect(() => {
    if (found?.state === "done") onDone(found);
  }, [found?.state]);
  return found;
}
