import { Box, Button, Group, Table } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, get, list } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { AreaField } from "../../parts/Field";
import { useJob } from "../../parts/jobs";
import { WordSelect } from "../../parts/WordSelect";
import { dayTime, figure, plural } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { Limits } from "./Limits";
import { Weeks } from "./Weeks";
import type { Lookout, Rehearsed } from "./words";

const WEEKS = [
  ["1", "week"],
  ["2", "2 weeks"],
  ["4", "4 weeks"],
  ["8", "8 weeks"],
  ["16", "16 weeks"],
] as const;
const SHOWN = 8;

/** Before it goes live: what a lookout would have raised and sent over the past weeks, and by another plan. */
export function Rehearsal({ lookout }: { lookout: Lookout }) {
  const client = useQueryClient();
  const path = { id: lookout.id };
  const key = ["lookouts", lookout.id, "rehearsals"];
  const found = useQuery({
    queryKey: key,
    queryFn: () => list(api.GET("/api/v1/lookouts/{id}/rehearsal", { params: { path } })),
  });
  const [weeks, setWeeks] = useState("4");
  const [plan, setPlan] = useState<string | null>(null);
  const [running, setRunning] = useState<number | null>(null);
  const job = useJob(running, () => {
    setRunning(null);
    void client.invalidateQueries({ queryKey: key });
  });
  const { error, isBusy, attempt } = useAttempt();
  const begin = () =>
    attempt(async () => {
      const made = await get(
        api.POST("/api/v1/lookouts/{id}/rehearsal", {
          params: { path },
          body: { weeks: Number(weeks), plan },
        }),
      );
      setRunning(made.id);
    });
  const done = (found.data ?? []).map((one) => one.result as unknown as Rehearsed);
  const isRunning = running !== null && job?.state !== "failed" && job?.state !== "cancelled";
  return (
    <Box aria-label="Rehearsal" component="section" mt={22}>
      <h2>
        Rehearsal{" "}
        <span className="soft small plain">what it would have raised and sent, had it been live</span>
      </h2>
      <Group component="p" gap="6px 18px">
        <span>
          The past <WordSelect label="How many weeks" value={weeks} choices={WEEKS} onChange={setWeeks} />, by{" "}
          <Button onClick={() => setPlan(plan === null ? (done[0]?.plan ?? "") : null)}>
            {plan === null ? "its own plan" : "the plan below"}
          </Button>
        </span>
        <Button variant="filled" disabled={isBusy || isRunning} onClick={() => void begin()}>
          Rehearse
        </Button>
        {isRunning && (
          <span role="status" className="soft">
            {job?.total ? `${figure(job.done)} of ${plural(job.total, "stream")}` : "waits for a worker"}
          </span>
        )}
        {job?.state === "failed" && <span role="alert">It failed: {job.message}</span>}
      </Group>
      {plan !== null && (
        <AreaField
          aria-label="Another plan"
          className="yaml"
          value={plan}
          onChange={(event) => setPlan(event.currentTarget.value)}
        />
      )}
      {error !== null && <Trouble error={error} />}
      {found.isError && <Trouble error={found.error} retry={() => found.refetch()} />}
      {done[0] && <Latest now={done[0]} before={done.slice(1)} lookout={lookout} rehearseBy={setPlan} />}
    </Box>
  );
}

/** The newest rehearsal, in a sentence, by week, by stream and against the logbook; earlier ones beside it. */
function Latest(props: {
  now: Rehearsed;
  before: Rehearsed[];
  lookout: Lookout;
  rehearseBy: (plan: string) => void;
}) {
  const { now, before, lookout, rehearseBy } = props;
  const held = now.held ? ` ${plural(now.held, "notice")} would have been held in planned work.` : "";
  return (
    <>
      <Box component="p" m="10px 0 4px" ff="var(--serif)" fz={21} lh={1.3} className="forecast-sentence">
        In {plural(now.weeks, "week")} it would have sent {plural(now.notices, "notice")}: {now.real} real,{" "}
        {now.not_real} not, {now.open + now.left_out} without a verdict.
      </Box>
      <p className="soft small tight">
        {plural(now.streams, "stream")}, {figure(now.samples)} samples, {plural(now.findings, "finding")}{" "}
        joined into {plural(now.notices, "notice")}; each ends with one more. A stream fell silent{" "}
        {plural(now.silent, "time")}.{held}
      </p>
      {now.is_own === false && <Keep lookout={lookout} plan={now.plan} />}
      <Figures rows={[now, ...before]} />
      <Weeks weeks={now.per_week} />
      <Noisiest now={now} />
      {now.limits && <Limits found={now.limits} take={rehearseBy} />}
    </>
  );
}

/** Another plan that was rehearsed, as the lookout's own. */
function Keep({ lookout, plan }: { lookout: Lookout; plan: string }) {
  const client = useQueryClient();
  const { error, isBusy, attempt } = useAttempt();
  const keep = () =>
    attempt(async () => {
      await api.PATCH("/api/v1/lookouts/{id}", {
        params: { path: { id: lookout.id } },
        body: { plan, on: true } as never,
      });
      await client.invalidateQueries({ queryKey: ["lookouts"] });
    });
  return (
    <Group component="p" gap="6px 18px">
      <Button disabled={isBusy} onClick={() => void keep()}>
        Keep watch by this plan
      </Button>
      <span className="soft">it begins anew, without what it has raised</span>
      {error !== null && <Trouble error={error} />}
    </Group>
  );
}

/** Precision and recall of notices, and what was promised beside what was seen; one line a rehearsal. */
function Figures({ rows }: { rows: Rehearsed[] }) {
  const share = (value: number | null, ci: [number, number] | null) =>
    value === null || ci === null ? "–" : `${figure(value, 2)} (${figure(ci[0], 2)} to ${figure(ci[1], 2)})`;
  return (
    <Table className="rows">
      <Table.Thead>
        <Table.Tr>
          <Table.Th>rehearsed</Table.Th>
          <Table.Th className="figure">notices</Table.Th>
          <Table.Th className="figure">precision (95 %)</Table.Th>
          <Table.Th className="figure">recall (95 %)</Table.Th>
          <Table.Th className="figure">false findings a stream-week</Table.Th>
          <Table.Th className="figure">promised</Table.Th>
        </Table.Tr>
      </Table.Thead>
      <Table.Tbody>
        {rows.map((one, i) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: the newest first, never reordered
          <Table.Tr key={i}>
            <Table.Td>
              {plural(one.weeks, "week")} to {dayTime(Date.parse(one.to), fleetZone())}
              {one.plan === rows[0]?.plan ? "" : ", another plan"}
            </Table.Td>
            <Table.Td className="figure">{figure(one.notices)}</Table.Td>
            <Table.Td className="figure">{share(one.precision, one.precision_ci)}</Table.Td>
            <Table.Td className="figure">{share(one.recall, one.recall_ci)}</Table.Td>
            <Table.Td className="figure">
              {one.seen_a_week === null ? "–" : figure(one.seen_a_week, 2)}
            </Table.Td>
            <Table.Td className="figure">
              {one.promised_a_week === null ? "–" : figure(one.promised_a_week, 2)}
            </Table.Td>
          </Table.Tr>
        ))}
      </Table.Tbody>
    </Table>
  );
}

function Noisiest({ now }: { now: Rehearsed }) {
  return (
    <>
      <h3>Streams, the noisiest first</h3>
      <Table className="rows">
        <Table.Thead>
          <Table.Tr>
            <Table.Th>stream</Table.Th>
            <Table.Th className="figure">findings</Table.Th>
            <Table.Th className="figure">notices</Table.Th>
            <Table.Th className="figure">not real</Table.Th>
            <Table.Th className="figure">silent</Table.Th>
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {now.per_stream.slice(0, SHOWN).map((row) => (
            <Table.Tr key={row.stream}>
              <Table.Td>
                <Link to={`/workbench/${row.stream}`}>{row.title}</Link>{" "}
                <span className="soft">{row.why || row.metric}</span>
              </Table.Td>
              <Table.Td className="figure">{figure(row.findings)}</Table.Td>
              <Table.Td className="figure">{figure(row.notices)}</Table.Td>
              <Table.Td className="figure">{figure(row.not_real)}</Table.Td>
              <Table.Td className="figure">{figure(row.silent)}</Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
      {now.per_stream.length > SHOWN && (
        <p className="soft small">and {plural(now.per_stream.length - SHOWN, "more", "more")} with fewer</p>
      )}
    </>
  );
}
