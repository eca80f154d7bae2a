import { useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { api, get, type Job } from "../api/client";

/** What a job or a scan is when it is over. */
export const ENDED = ["done", "failed", "cancelled"];

/** A job by its number until it is over; onDone is called once when it went well. */
export function useJob(id: number | null, onDone: (job: Job) => void): Job | undefined {
  const job = useQuery({
    queryKey: ["job", id],
    enabled: id !== null,
    queryFn: () => get(api.GET("/api/v1/jobs/{id}", { params: { path: { id: id ?? 0 } } })),
    refetchInterval: (q) => (q.state.data && ENDED.includes(q.state.data.state) ? false : 400),
  });
  const found = job.data;
  // biome-ignore lint/correctness/useExhaustiveDependencies: once, when the job is through
  useEffect(() => {
    if (found?.state === "done") onDone(found);
  }, [found?.state]);
  return found;
}
