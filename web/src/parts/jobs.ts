import { useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { api, get, type Job, Problem } from "../api/client";

/** What a job or a scan is when it is over. */
export const ENDED = ["done", "failed", "cancelled"];

const LOOK_MS = 400;

/** Wait until a job is over. Throws a Problem with its message where it did not go well. */
export async function ended(id: number): Promise<Job> {
  for (;;) {
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
  let answer = await ask();
  while ("counting_job" in answer) {
    await ended(answer.counting_job as number);
    answer = await ask();
  }
  return answer as T;
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
