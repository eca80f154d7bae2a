import { Box, Button } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, get, Problem } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { figure, plural } from "../../parts/words";

const OVER = ["done", "failed", "cancelled"];

/** How far the storing is, and the scan behind it; where to go when both are done. */
export function Storing({ job, onAnother }: { job: number; onAnother: () => void }) {
  const stored = useQuery({
    queryKey: ["job", job],
    queryFn: () => get(api.GET("/api/v1/jobs/{id}", { params: { path: { id: job } } })),
    refetchInterval: (q) => (q.state.data && OVER.includes(q.state.data.state) ? false : 500),
  });
  const result = stored.data?.result as { scan?: number; first_stream?: number } | undefined;
  const scan = useQuery({
    queryKey: ["scan", result?.scan],
    enabled: Boolean(result?.scan),
    queryFn: () => get(api.GET("/api/v1/scans/{id}", { params: { path: { id: result?.scan ?? 0 } } })),
    refetchInterval: (q) => (q.state.data && OVER.includes(q.state.data.state) ? false : 700),
  });
  const state = stored.data?.state;
  if (state === "failed" || state === "cancelled")
    return (
      <Trouble
        error={
          new Problem(
            400,
            stored.data?.message || "the intake failed",
            "",
            "correct the file or its layout, and store again",
          )
        }
      />
    );
  if (scan.data?.state === "failed")
    return (
      <Trouble
        error={
          new Problem(
            400,
            "the rows are stored, but the scan failed",
            "",
            "open a stream in the workbench and change its plan",
          )
        }
      />
    );
  const first = result?.first_stream;
  const share = stored.data?.total ? ((stored.data.done ?? 0) / stored.data.total) * 100 : 0;
  return (
    <Box role="status" component="p" fz={16}>
      {state !== "done"
        ? `Storing the rows … ${share ? `${figure(share, 0)} %` : ""}`
        : result?.scan && scan.data?.state !== "done"
          ? "Stored. Scanning …"
          : "Stored. "}
      {state !== "done" && (
        <Button onClick={() => api.DELETE("/api/v1/jobs/{id}", { params: { path: { id: job } } })}>
          Cancel
        </Button>
      )}
      {state === "done" && (!result?.scan || scan.data?.state === "done") && (
        <>
          {scan.data &&
            `${plural(scan.data.findings, "finding")} in ${plural(scan.data.streams, "stream")}. `}
          {first !== undefined && (
            <Link className="act" to={`/workbench/${first}`}>
              Open the first stream
            </Link>
          )}{" "}
          <Link className="act" to="/">
            Tide table
          </Link>{" "}
          <Button onClick={onAnother}>Another file</Button>
        </>
      )}
    </Box>
  );
}
