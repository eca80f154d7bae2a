import { Button, Group, Table } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "react-router";
import { api, get, list, type Schema } from "../../api/client";
import { TopBar } from "../../frame";
import { Trouble, Waiting } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { sure } from "../../parts/sure";
import { dayTime, duration, figure, plural, ratio, zoneName } from "../../parts/words";
import { Corrections } from "./Corrections";
import { Limit } from "./Limit";
import { Outbox } from "./Outbox";
import { PegWords } from "./Peg";
import { Rehearsal } from "./Rehearsal";
import { RouteChoice } from "./RouteChoice";
import { type Lookout as Data, STATES, scopeWords, stateCounts } from "./words";

type Watched = Schema["Watched"];
/** The latest while somebody looks on. */
const LOOK_AGAIN_MS = 5_000;

/** One lookout: each of its streams by state, since when, why, and how far it is judged. */
export default function Lookout() {
  const id = Number(useParams().lookout);
  const lookout = useQuery({
    queryKey: ["lookouts", id],
    queryFn: () => get(api.GET("/api/v1/lookouts/{id}", { params: { path: { id } } })),
    refetchInterval: LOOK_AGAIN_MS,
  });
  const streams = useQuery({
    queryKey: ["lookouts", id, "streams"],
    queryFn: () =>
      list(api.GET("/api/v1/lookouts/{id}/streams", { params: { path: { id }, query: { limit: 500 } } })),
    refetchInterval: LOOK_AGAIN_MS,
  });
  if (lookout.isPending) return <Waiting what="Reading the lookout" />;
  if (lookout.isError) return <Trouble error={lookout.error} retry={() => lookout.refetch()} />;
  const one = lookout.data;
  return (
    <div className="padded">
      <TopBar>
        <Link to="/lookouts" className="soft">
          Lookouts
        </Link>
        <h1>{one.name}</h1>
        <span className="soft">
          {one.on ? "keeps watch over" : "switched off; over"} {scopeWords(one.scope)}
        </span>
      </TopBar>
      <p className="tight">
        {stateCounts(one.states).map(([state, n]) => (
          <PegWords key={state} state={state}>
            <strong>{figure(n)}</strong> {state}
          </PegWords>
        ))}
        {Object.keys(one.states).length === 0 && <span className="soft">No stream matches yet.</span>}
      </p>
      <p className="soft small tight">
        By the plan{" "}
        <Link to="/plans">
          {one.plan_name}, v{one.plan_version}
        </Link>
        ; a bin is judged{" "}
        {one.wait === "auto" ? "when its samples have usually come" : `${one.wait} after its end`}
        {one.skip_last ? `, the last ${plural(one.skip_last, "sample")} left out` : ""}. What it says is what
        a replay of the same samples says.
      </p>
      <Sent lookout={id} />
      <RouteChoice lookout={one} />
      <Limit lookout={one} />
      <Acts lookout={one} />
      {streams.isError && <Trouble error={streams.error} retry={() => streams.refetch()} />}
      {streams.data && <Streams rows={streams.data} />}
      <Corrections lookout={id} />
      <Rehearsal lookout={one} />
      <Outbox lookout={id} />
    </div>
  );
}

/** How many of its notices were real, and how soon somebody looked. */
function Sent({ lookout }: { lookout: number }) {
  const found = useQuery({
    queryKey: ["lookouts", lookout, "precision"],
    queryFn: () => get(api.GET("/api/v1/lookouts/{id}/precision", { params: { path: { id: lookout } } })),
  });
  const d = found.data;
  if (!d?.sent) return null;
  const judged = d.real + d.not_real;
  return (
    <p className="small tight">
      It has sent {plural(d.sent, "notice")} of something that began.{" "}
      {judged > 0 && (
        <>
          {figure(d.real)} of {figure(judged)} with a verdict were real: precision{" "}
          <strong>{ratio(d.precision)}</strong>
          {d.precision_ci && ` (${ratio(d.precision_ci[0])} to ${ratio(d.precision_ci[1])})`}.{" "}
        </>
      )}
      {d.open > 0 && `${plural(d.open, "has", "have")} no verdict yet. `}
      {d.opened_after_s !== null &&
        `Somebody opened ${figure(d.opened)} of them, after ${duration(d.opened_after_s)} at the median.`}
    </p>
  );
}

function Acts({ lookout }: { lookout: Data }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const { error, isBusy, attempt } = useAttempt();
  const path = { id: lookout.id };
  const turn = () =>
    attempt(async () => {
      await api.PATCH("/api/v1/lookouts/{id}", { params: { path }, body: { on: !lookout.on } as never });
      await client.invalidateQueries({ queryKey: ["lookouts"] });
    });
  const end = () =>
    attempt(async () => {
      await api.DELETE("/api/v1/lookouts/{id}", { params: { path } });
      await client.invalidateQueries({ queryKey: ["lookouts"] });
      navigate("/lookouts");
    });
  return (
    <Group gap="6px 18px">
      <Button disabled={isBusy} onClick={() => void turn()}>
        {lookout.on ? "Switch it off" : "Switch it on"}
      </Button>
      <Button
        disabled={isBusy}
        onClick={() =>
          sure(
            "End for good",
            lookout.name,
            "What it has raised goes with it. Switched off, it keeps that.",
            end,
          )
        }
      >
        End it …
      </Button>
      <a className="act" download href={`/api/v1/lookouts/${lookout.id}/findings.csv`}>
        Findings as CSV
      </a>
      <a className="act" href={`/api/v1/lookouts/${lookout.id}/feed.atom`}>
        Notices as Atom
      </a>
      {error !== null && <Trouble error={error} />}
    </Group>
  );
}

function Streams({ rows }: { rows: Watched[] }) {
  const ordered = [...rows].sort((a, b) => STATES.indexOf(a.state) - STATES.indexOf(b.state));
  return (
    <Table className="rows">
      <Table.Thead>
        <Table.Tr>
          <Table.Th>stream</Table.Th>
          <Table.Th>state</Table.Th>
          <Table.Th>since</Table.Th>
          <Table.Th>why</Table.Th>
          <Table.Th>judged through</Table.Th>
          <Table.Th className="right">raised</Table.Th>
        </Table.Tr>
      </Table.Thead>
      <Table.Tbody>
        {ordered.map((w) => (
          <Table.Tr key={w.stream}>
            <Table.Td>
              <Link to={`/workbench/${w.stream}`}>{w.title}</Link> <span className="soft">{w.metric}</span>
            </Table.Td>
            <Table.Td className="nowrap">
              <PegWords state={w.state} />
            </Table.Td>
            <Table.Td className="nowrap">
              {dayTime(w.since, w.zone)} {zoneName(w.since, w.zone)}
            </Table.Td>
            <Table.Td>
              {w.why || (w.judged_through === null ? "waits to be judged for the first time" : "")}
              {w.needs && <span className="soft"> Needs {w.needs}.</span>}
              {w.foreseen && (
                <strong>
                  {" "}
                  Reaches its limit on {dayTime(w.foreseen, w.zone)}, as half of the futures say.
                </strong>
              )}
            </Table.Td>
            <Table.Td className="nowrap">
              {w.judged_through === null
                ? "nothing yet"
                : `${dayTime(w.judged_through, w.zone)} ${zoneName(w.judged_through, w.zone)}`}
            </Table.Td>
            <Table.Td className="figure right">
              {figure(w.findings)}
              {w.late > 0 && <span className="soft small"> {w.late} late</span>}
            </Table.Td>
          </Table.Tr>
        ))}
      </Table.Tbody>
    </Table>
  );
}
