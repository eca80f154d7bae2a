import { Button, Table } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, get, list } from "../../api/client";
import { TopBar } from "../../frame";
import { Trouble, Waiting } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { Hint } from "../../parts/Hint";
import { VERDICT_WORDS } from "../../parts/marks";
import { dayTime, figure, plural, ratio } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { Begin } from "./Begin";
import { agreedWords, KIND_WORDS, type Round } from "./words";

/** Where a review begins: what to judge next, and the rounds so far. */
export default function Rounds() {
  const rounds = useQuery({ queryKey: ["rounds"], queryFn: () => list(api.GET("/api/v1/rounds")) });
  const open = useQuery({ queryKey: ["review"], queryFn: () => get(api.GET("/api/v1/review")) });
  const unfinished = rounds.data?.find((r) => r.left > 0);
  return (
    <div className="padded">
      <TopBar>
        <h1>Review</h1>
        {open.data && (
          <span className="soft" role="status" aria-label="Progress">
            {figure(open.data.judged)} of {figure(open.data.total)} findings of the standing plans are judged
          </span>
        )}
      </TopBar>
      <Hint name="review">
        A round brings findings one after another, each with what surrounds it; one key gives the verdict.
        What is drawn by chance says how precise all findings are; what is not flagged says what is missed.
      </Hint>
      {unfinished && (
        <p>
          <Link className="act" to={`/review/${unfinished.id}`}>
            Go on with round {unfinished.id}
          </Link>
          : {plural(unfinished.left, "verdict")} to go.
        </p>
      )}
      <Begin open={open.data ? open.data.total - open.data.judged : null} />
      {rounds.isPending && <Waiting what="Reading the rounds" />}
      {rounds.isError && <Trouble error={rounds.error} retry={() => rounds.refetch()} />}
      {rounds.data && rounds.data.length > 0 && <RoundsTable rounds={rounds.data} />}
      {rounds.data?.map((r) => r.disputed.length > 0 && <Disputes key={r.id} round={r} />)}
    </div>
  );
}

function RoundsTable({ rounds }: { rounds: Round[] }) {
  return (
    <Table className="rows">
      <Table.Thead>
        <Table.Tr>
          <Table.Th>round</Table.Th>
          <Table.Th>what</Table.Th>
          <Table.Th>found by</Table.Th>
          <Table.Th>begun, {fleetZone()}</Table.Th>
          <Table.Th className="right">judged</Table.Th>
          <Table.Th className="right">real, or missed</Table.Th>
          <Table.Th className="right">share, 95 %</Table.Th>
          <Table.Th>two people</Table.Th>
        </Table.Tr>
      </Table.Thead>
      <Table.Tbody>
        {rounds.map((r) => (
          <Table.Tr key={r.id}>
            <Table.Td>
              <Link className="act" to={`/review/${r.id}`} aria-label={`Round ${r.id}`}>
                {r.id}
              </Link>
            </Table.Td>
            <Table.Td>
              {KIND_WORDS[r.kind]}
              {r.metric && ` of ${r.metric}`}
            </Table.Td>
            <Table.Td>{r.plan}</Table.Td>
            <Table.Td>
              {dayTime(r.created_at, fleetZone())} <span className="soft">{r.created_by}</span>
            </Table.Td>
            <Table.Td className="figure right">
              {r.judged} of {r.total - r.passed_over}
            </Table.Td>
            <Table.Td className="figure right">
              {r.counts[0]} of {r.counts[1]}
            </Table.Td>
            <Table.Td className="figure right">
              {ratio(r.share)}
              {r.share_ci && ` (${ratio(r.share_ci[0])}–${ratio(r.share_ci[1])})`}
            </Table.Td>
            <Table.Td className="small">{r.agreement.n ? agreedWords(r.agreement) : "–"}</Table.Td>
          </Table.Tr>
        ))}
      </Table.Tbody>
    </Table>
  );
}

/** Where two people differed: who said what, and what is it to be. */
function Disputes({ round }: { round: Round }) {
  const client = useQueryClient();
  const { error, attempt } = useAttempt();
  const settle = async (item: number, verdict: string) => {
    await attempt(async () => {
      await api.POST("/api/v1/rounds/{id}/items/{item}/settle", {
        params: { path: { id: round.id, item } },
        body: { verdict: verdict as "incident" },
      });
      await client.invalidateQueries();
    });
  };
  return (
    <section aria-label={`Disputes of round ${round.id}`}>
      <h2>
        Two verdicts, round {round.id}{" "}
        <span className="soft small plain">the first one stands until somebody settles it</span>
      </h2>
      <Table className="rows">
        <Table.Tbody>
          {round.disputed.map((d) => (
            <Table.Tr key={d.item}>
              <Table.Td>
                <strong>{d.title}</strong> <span className="soft">{d.metric}</span>
              </Table.Td>
              <Table.Td>{dayTime(d.start, d.zone)}</Table.Td>
              {d.verdicts.map((v) => (
                <Table.Td key={v.by}>
                  {v.by}:{" "}
                  <Button onClick={() => void settle(d.item, v.verdict)}>
                    it is {VERDICT_WORDS[v.verdict]}
                  </Button>
                </Table.Td>
              ))}
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
      {error !== null && <Trouble error={error} />}
    </section>
  );
}
