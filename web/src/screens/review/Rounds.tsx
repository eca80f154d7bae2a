import { Button, Radio, Table } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, get, list } from "../../api/client";
import { TopBar } from "../../frame";
import { Trouble, Waiting } from "../../parts/ask";
import { dayEnd, dayStart } from "../../parts/clock";
import { Field, SelectField } from "../../parts/Field";
import { ended } from "../../parts/jobs";
import { VERDICT_WORDS } from "../../parts/marks";
import { DayField } from "../../parts/When";
import { begun, dayTime, figure, plural, ratio } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { agreedWords, KIND_WORDS, type Round } from "./words";
import "./review.css";

const SIZES = [10, 20, 50, 100, 200, 500];

const WHY: Record<Round["kind"], string> = {
  strongest:
    "Hand-picked by strength: quick to find what matters, but its precision holds for the strongest only.",
  sample:
    "Drawn by chance within families and thirds of the score, so that precision holds for all findings of the scan; later samples draw more where verdicts differ.",
  unflagged:
    "Drawn by chance from the time in which nothing was flagged, half of it where the score came near the level: so it is known what is missed.",
};

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

function Begin({ open }: { open: number | null }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const scans = useQuery({ queryKey: ["scans"], queryFn: () => list(api.GET("/api/v1/scans")) });
  // Standing ones first, those of most streams first among them.
  const usable = useMemo(
    () =>
      (scans.data ?? [])
        .filter((s) => s.state === "done" && s.mode === "fit")
        .sort((a, b) => Number(b.is_standing) - Number(a.is_standing) || b.streams - a.streams),
    [scans.data],
  );
  const [kind, setKind] = useState<Round["kind"]>("strongest");
  const [size, setSize] = useState(50);
  const [metric, setMetric] = useState("");
  const [from, setFrom] = useState("");
  const [to, setTo] = useState("");
  const [least, setLeast] = useState("");
  const [chosen, setChosen] = useState<number | null>(null);
  const [error, setError] = useState<unknown>(null);
  const scan = usable.find((s) => s.id === chosen) ?? usable[0];
  if (scans.isPending) return null;
  if (!scan)
    return (
      <div className="empty">
        <h2>Nothing to review yet</h2>
        <p>
          A review needs a finished scan. <Link to="/intake">Bring in a file</Link> and scan it.
        </p>
      </div>
    );
  const fits = (which: Round["kind"]) =>
    which === "strongest"
      ? open !== null && `${plural(open, "finding")} without a verdict`
      : which === "sample"
        ? `of ${plural(scan.findings, "finding")}`
        : `of ${plural(scan.streams, "stream")}, a day or so each`;
  const begin = async () => {
    setError(null);
    try {
      const made = await get(
        api.POST("/api/v1/rounds", {
          body: {
            scan: scan.id,
            kind,
            size,
            metric: metric || undefined,
            begin: dayStart(from, fleetZone()),
            end: dayEnd(to, fleetZone()),
            least: kind === "strongest" && least ? Number(least) : undefined,
          },
        }),
      );
      const round = "job" in made ? ((await ended(made.job)).result as { round: number }).round : made.id;
      await client.invalidateQueries({ queryKey: ["rounds"] });
      navigate(`/review/${round}`);
    } catch (problem) {
      setError(problem);
    }
  };
  return (
    <section aria-label="Begin a round" className="begin">
      <h2>Begin a round</h2>
      <Radio.Group
        aria-label="What to judge"
        value={kind}
        onChange={(value) => setKind(value as Round["kind"])}
        className="round-kinds"
      >
        {(Object.keys(KIND_WORDS) as Round["kind"][]).map((value) => (
          <Radio
            key={value}
            value={value}
            size="xs"
            label={
              <>
                <strong>{begun(KIND_WORDS[value])}</strong> <span className="soft">{fits(value)}</span>
              </>
            }
            description={WHY[value]}
          />
        ))}
      </Radio.Group>
      <p>
        At most{" "}
        <SelectField
          className="word"
          aria-label="How many"
          value={size}
          onChange={(e) => setSize(Number(e.target.value))}
        >
          {SIZES.map((n) => (
            <option key={n} value={n}>
              {n}
            </option>
          ))}
        </SelectField>
        , of{" "}
        <SelectField
          className="word"
          aria-label="Of which family"
          value={metric}
          onChange={(e) => setMetric(e.target.value)}
        >
          <option value="">all families</option>
          {scan.metrics.map((m) => (
            <option key={m} value={m}>
              {m}
            </option>
          ))}
        </SelectField>
        , found by{" "}
        <SelectField
          className="word"
          aria-label="Found by which scan"
          value={scan.id}
          onChange={(e) => setChosen(Number(e.target.value))}
        >
          {usable.map((s) => (
            <option key={s.id} value={s.id}>
              {s.plan} v{s.version} over {plural(s.streams, "stream")}
              {s.is_standing ? ", standing" : ", trial"} ({s.id})
            </option>
          ))}
        </SelectField>
        , from <DayField label="First day" value={from} onChange={setFrom} /> to{" "}
        <DayField label="Last day" value={to} onChange={setTo} />
        {kind === "strongest" && (
          <>
            , of at least{" "}
            <Field
              type="number"
              className="word least"
              aria-label="Least strength, sigmas"
              min="0"
              step="0.5"
              placeholder="any"
              value={least}
              onChange={(e) => setLeast(e.target.value)}
            />{" "}
            σ
          </>
        )}
        .
      </p>
      {kind !== "strongest" && (metric || from || to) && (
        <p className="soft small">What it says then holds for the chosen family and days alone.</p>
      )}
      <Button variant="filled" onClick={() => void begin()}>
        Begin the round
      </Button>
      {error !== null && <Trouble error={error} />}
    </section>
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
  const [error, setError] = useState<unknown>(null);
  const settle = async (item: number, verdict: string) => {
    setError(null);
    try {
      await api.POST("/api/v1/rounds/{id}/items/{item}/settle", {
        params: { path: { id: round.id, item } },
        body: { verdict: verdict as "incident" },
      });
      await client.invalidateQueries();
    } catch (problem) {
      setError(problem);
    }
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
