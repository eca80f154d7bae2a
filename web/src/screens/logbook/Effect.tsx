import { Box, Table, VisuallyHidden } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { api, get, type Schema } from "../../api/client";
import { TopBar } from "../../frame";
import { Trouble, Waiting } from "../../parts/ask";
import { counted, ENDED } from "../../parts/jobs";
import { dayTime, figure, plural, ratio } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import type { Events } from "../scorecard/figures";

/** What entries of the logbook change: expectation, band and findings before and after, stream by stream. */
export default function Effect() {
  const [params] = useSearchParams();
  const before = Number(params.get("before"));
  const after = Number(params.get("after"));
  const trial = useQuery({
    queryKey: ["scan", after],
    queryFn: () => get(api.GET("/api/v1/scans/{id}", { params: { path: { id: after } } })),
    refetchInterval: (q) => (q.state.data && ENDED.includes(q.state.data.state) ? false : 700),
  });
  const isDone = trial.data?.state === "done";
  const effect = useQuery({
    queryKey: ["scorecard", "effect", before, after],
    enabled: isDone,
    queryFn: () =>
      counted(() => get(api.GET("/api/v1/logbook/effect", { params: { query: { before, after } } }))),
  });
  const figures = useQuery({
    queryKey: ["scorecard", "beside", before, after],
    enabled: isDone,
    queryFn: () =>
      counted(() =>
        get(api.GET("/api/v1/comparison", { params: { query: { scans: `${before},${after}` } } })),
      ),
  });
  const top = (
    <TopBar>
      <Link to="/logbook" className="soft">
        Logbook
      </Link>
      <span className="soft">›</span>
      <h1>What the entries change</h1>
    </TopBar>
  );
  if (trial.isError) return <Trouble error={trial.error} />;
  if (trial.data && ENDED.includes(trial.data.state) && !isDone)
    return (
      <div className="padded">
        {top}
        <p role="alert">The trial did not finish: {trial.data.state}. Its job says why.</p>
      </div>
    );
  if (!effect.data)
    return (
      <>
        {top}
        {effect.isError ? (
          <Trouble error={effect.error} />
        ) : (
          <Waiting what="The plan is run with the logbook as it is now" />
        )}
      </>
    );
  const rows = effect.data.streams;
  const gone = rows.reduce((sum, r) => sum + r.gone.length, 0);
  const fresh = rows.reduce((sum, r) => sum + r.new.length, 0);
  const [one, other] = (figures.data?.scans ?? []).map((s) => s.events as unknown as Events);
  return (
    <div className="padded">
      {top}
      <Box component="h1" fz={22} className="verdict">
        {gone + fresh === 0
          ? "The findings stay the same."
          : `${plural(gone, "finding")} ${gone === 1 ? "goes" : "go"}, ${plural(fresh, "finding")} ${fresh === 1 ? "comes" : "come"}.`}
      </Box>
      {one && other && (
        <p>
          Precision <strong>{ratio(other.precision)}</strong> instead of {ratio(one.precision)},{" "}
          {other.recall === null && one.recall === null ? (
            "no incident to find"
          ) : (
            <>
              recall <strong>{ratio(other.recall)}</strong> instead of {ratio(one.recall)}
            </>
          )}
          , over the same streams and entries.{" "}
          <Link to={`/scorecards/compare?scans=${before},${after}`}>With intervals</Link>
        </p>
      )}
      <Table className="rows">
        <Table.Thead>
          <Table.Tr>
            <Table.Th>stream</Table.Th>
            <Table.Th className="figure">expectation moved, σ</Table.Th>
            <Table.Th className="figure">band, of what it was</Table.Th>
            <Table.Th className="figure">spans left out</Table.Th>
            <Table.Th>findings</Table.Th>
            <Table.Th>
              <VisuallyHidden component="span">acts</VisuallyHidden>
            </Table.Th>
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {rows.map((r) => (
            <Row key={r.stream} row={r} before={before} after={after} />
          ))}
        </Table.Tbody>
      </Table>
      <p className="soft small">
        Moved: the median over all samples, in the sigmas of before. Adopt the trial in the workbench or on
        its <Link to={`/scorecards/${after}`}>scorecard</Link>; until then nothing that stands has changed.
      </p>
    </div>
  );
}

function Row({ row: r, before, after }: { row: Schema["StreamEffect"]; before: number; after: number }) {
  const spans = (list: { start: number }[]) =>
    list
      .slice(0, 3)
      .map((span) => dayTime(span.start, fleetZone()))
      .join("; ");
  return (
    <Table.Tr>
      <Table.Td>{r.name}</Table.Td>
      <Table.Td className="figure">{figure(r.moved, 2)}</Table.Td>
      <Table.Td className="figure">{r.band === null ? "–" : `${figure(100 * r.band, 0)} %`}</Table.Td>
      <Table.Td className="figure">
        {r.left_out_before} → {r.left_out_after}
      </Table.Td>
      <Table.Td>
        {plural(r.kept, "finding")} as before
        {r.gone.length > 0 && `; gone: ${spans(r.gone)}`}
        {r.new.length > 0 && `; new: ${spans(r.new)}`}
      </Table.Td>
      <Table.Td className="nowrap">
        <Link
          to={`/workbench/${r.stream}?scan=${after}&beside=${before}`}
          aria-label={`See ${r.name} before and after`}
        >
          See both
        </Link>
      </Table.Td>
    </Table.Tr>
  );
}
