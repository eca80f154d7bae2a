import { Button, Table } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useContext, useRef, useState } from "react";
import { Link, useLocation, useNavigate, useParams } from "react-router";
import { api, type Incident as Data, type Finding, get, onlyIf } from "../../api/client";
import { TopBar } from "../../frame";
import { useKeys } from "../../keys/useKeys";
import { Trouble, Waiting } from "../../parts/ask";
import { AreaField, Field } from "../../parts/Field";
import { Mark, VERDICT_WORDS } from "../../parts/marks";
import { PersonName } from "../../parts/person";
import { type Judgement, VERDICTS, Verdicts, verdictKeys } from "../../parts/Verdicts";
import { begun, dayTime, duration, figure, plural, zoneName } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { SmallChart } from "../scorecard/SmallChart";
import { linkTo } from "../tide-table/Strongest";
import { Lanes } from "./Lanes";
import { scopeWords, stateWords } from "./words";
import "../review/review.css";
import "./incidents.css";

/** Small charts beside the lanes: the strongest of so many streams. */
const CHARTS = 6;

/** One incident, or one that is only proposed: when and where, what it was, and what was done. */
export default function Incident() {
  const params = useParams();
  const pk = params.incident ? Number(params.incident) : null;
  const finding = Number(params.finding);
  const found = useQuery({
    queryKey: ["incidents", pk ?? `p${finding}`],
    queryFn: () =>
      pk === null
        ? get(api.GET("/api/v1/incidents/proposed/{finding}", { params: { path: { finding } } }))
        : get(api.GET("/api/v1/incidents/{id}", { params: { path: { id: pk } } })),
  });
  if (found.isPending) return <Waiting what="Reading the incident" />;
  if (found.isError)
    return (
      <div className="padded">
        <Trouble error={found.error} retry={() => found.refetch()} />
        <Link className="act" to="/incidents">
          All incidents
        </Link>
      </div>
    );
  return <Known key={pk ?? `p${finding}`} incident={found.data} />;
}

interface Given {
  words: string;
  entries: number[];
}

function Known({ incident }: { incident: Data }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const me = useContext(PersonName);
  const [error, setError] = useState<unknown>(null);
  const [isBusy, setBusy] = useState(false);
  // A verdict that kept a proposal comes along to the page of what it became, to be taken back there.
  const [given, setGiven] = useState<Given | null>((useLocation().state as Given | null) ?? null);
  const [cause, setCause] = useState(incident.cause);
  const causeField = useRef<HTMLInputElement>(null);
  const id = incident.id;

  const attempt = async (work: () => Promise<unknown>) => {
    if (isBusy) return;
    setBusy(true);
    setError(null);
    try {
      await work();
      await client.invalidateQueries();
    } catch (problem) {
      setError(problem);
    } finally {
      setBusy(false);
    }
  };
  const keep = (state: "open" | "apart") =>
    get(
      api.POST("/api/v1/incidents", {
        body: { findings: incident.members.map((f) => f.id), title: incident.title, state },
      }),
    );
  const change = (body: {
    title?: string;
    cause?: string;
    note?: string;
    state?: "open" | "closed" | "apart";
    take?: boolean;
  }) =>
    attempt(() =>
      api.PATCH("/api/v1/incidents/{id}", { params: { path: { id: id ?? 0 } }, body, ...onlyIf(incident) }),
    );
  const move = (f: Finding, out: boolean) =>
    attempt(() =>
      api.POST("/api/v1/incidents/{id}/findings", {
        params: { path: { id: id ?? 0 } },
        body: { findings: [f.id], out },
      }),
    );
  const judge = (verdict: Judgement) =>
    attempt(async () => {
      // A verdict on what was proposed keeps it.
      const kept = id ?? (await keep("open")).id ?? 0;
      const { entries } = await get(
        api.POST("/api/v1/incidents/{id}/verdict", {
          params: { path: { id: kept } },
          body: { verdict, cause },
        }),
      );
      const now = { words: `${VERDICT_WORDS[verdict]} on ${plural(entries.length, "finding")}`, entries };
      if (id === null) navigate(`/incidents/${kept}`, { replace: true, state: now });
      else setGiven(now);
    });
  const undo = () =>
    given &&
    attempt(async () => {
      await api.POST("/api/v1/incidents/{id}/verdict/undo", {
        params: { path: { id: id ?? 0 } },
        body: { entries: given.entries },
      });
      setGiven(null);
    });
  useKeys({
    ...verdictKeys((choice) => void judge(choice.verdict), VERDICTS),
    z: () => void undo(),
    c: () => causeField.current?.focus(),
  });
  const strongest = [...incident.members]
    .sort((a, b) => (b.score ?? 0) - (a.score ?? 0))
    .filter((f, i, all) => all.findIndex((g) => g.stream === f.stream) === i)
    .slice(0, CHARTS);
  return (
    <div className="incident">
      <TopBar>
        <Link to="/incidents" className="soft">
          Incidents
        </Link>
        <h1>
          {incident.title}
          {id === null && "?"}
        </h1>
        <span className="soft">{stateWords(incident, me)}</span>
      </TopBar>
      <section className="incident-main">
        <p className="incident-words">{sentence(incident)}</p>
        <Lanes incident={incident} move={id === null ? undefined : (f) => void move(f, true)} />
        {incident.bare.length > 0 && (
          <p className="soft small">
            Kept, though the standing scans find nothing there any more:{" "}
            {incident.bare
              .map((b) => `${b.metric} ${b.title}, ${dayTime(b.start, incident.zone)}`)
              .join("; ")}
            .
          </p>
        )}
        <h2>
          {strongest.length > 1
            ? `The strongest of ${plural(incident.streams, "stream")}`
            : "In its surroundings"}
        </h2>
        <div className="incident-charts">
          {strongest.map((f) => (
            <Link key={f.id} to={linkTo(f)}>
              <SmallChart scan={f.scan} stream={f.stream} from={f.start} to={f.end} />
              <span className="small">
                <strong>{f.title}</strong>{" "}
                <span className="soft">
                  {f.metric}, {f.unit}
                </span>
              </span>
            </Link>
          ))}
        </div>
        {incident.nearby.length > 0 && (
          <Nearby incident={incident} put={id === null ? undefined : (f) => void move(f, false)} />
        )}
      </section>
      <aside className="review-side">
        {id === null ? (
          <>
            <p>These findings go together in time and share something. Is it one thing?</p>
            <div className="acts">
              <Button
                variant="filled"
                disabled={isBusy}
                onClick={() =>
                  attempt(async () => {
                    const kept = await keep("open");
                    navigate(`/incidents/${kept.id}`, { replace: true });
                  })
                }
              >
                Keep as an incident
              </Button>
              <Button
                disabled={isBusy}
                onClick={() =>
                  attempt(async () => {
                    await keep("apart");
                    navigate("/incidents", { replace: true });
                  })
                }
              >
                It is not one thing
              </Button>
            </div>
          </>
        ) : (
          <>
            <label>
              What happened
              <Field
                className="field"
                defaultValue={incident.title}
                maxLength={200}
                onBlur={(e) => e.target.value !== incident.title && void change({ title: e.target.value })}
                onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
              />
            </label>
            <div className="acts">
              {incident.state === "open" && (
                <Button onClick={() => void change({ take: incident.taken_by !== me })}>
                  {incident.taken_by === me ? "Let go" : incident.taken_by ? "Take over" : "Take"}
                </Button>
              )}
              <Button onClick={() => void change({ state: incident.state === "open" ? "closed" : "open" })}>
                {incident.state === "open" ? "Close" : "Open again"}
              </Button>
            </div>
          </>
        )}
        <h2>What was it?</h2>
        <p className="soft small">
          {incident.open
            ? `One verdict for ${incident.open === incident.findings ? "all" : "the"} ${plural(incident.open, "finding")} without one.`
            : "Every finding has its verdict; the logbook changes them."}
        </p>
        <Verdicts
          choices={VERDICTS}
          judge={(choice) => void judge(choice.verdict)}
          isOff={isBusy || incident.open === 0}
        />
        <label>
          Cause <kbd>C</kbd>
          <Field
            ref={causeField}
            className="field"
            value={cause}
            maxLength={500}
            onChange={(e) => setCause(e.target.value)}
            onBlur={() => id !== null && cause !== incident.cause && void change({ cause })}
            onKeyDown={(e) => (e.key === "Enter" || e.key === "Escape") && e.currentTarget.blur()}
          />
        </label>
        {given && (
          <p role="status">
            {begun(given.words)}.{" "}
            <Button onClick={() => void undo()} disabled={isBusy}>
              Take back
            </Button>{" "}
            <kbd>Z</kbd>
          </p>
        )}
        {error !== null && <Trouble error={error} />}
        {id !== null && (
          <>
            <label>
              Note
              <AreaField
                className="field"
                rows={3}
                defaultValue={incident.note}
                onBlur={(e) => e.target.value !== incident.note && void change({ note: e.target.value })}
              />
            </label>
            <History incident={incident} />
          </>
        )}
      </aside>
    </div>
  );
}

/** When it began, how long it lasted, over what, and what is known of it. */
function sentence(incident: Data): string {
  if (incident.start === null || incident.end === null) return "";
  const began = `${dayTime(incident.start, incident.zone)} ${zoneName(incident.start, incident.zone)}`;
  const lasted =
    incident.end > incident.start ? ` for ${duration((incident.end - incident.start) / 1000)}` : "";
  const top = incident.members.find((f) => f.id === incident.finding);
  const size = top ? `; up to ${figure(top.score, 1)} σ, on ${top.title}` : "";
  const common = incident.shared.map((pair) => pair.replace("=", " ")).join(", ");
  const shared = common ? ` All have ${common}.` : "";
  const name = new Map(incident.members.map((f) => [f.stream, `${f.metric} ${f.title}`]));
  const targets = [...new Set(incident.fed_by.map(([to]) => to ?? 0))];
  const fed =
    targets.length > 1
      ? `${name.get(targets[0] ?? 0)} and ${plural(targets.length - 1, "other")} are fed by others of them`
      : targets.length
        ? `${name.get(targets[0] ?? 0)} is fed by others of them`
        : "";
  return `${scopeWords(incident).replace(" · ", " of ")}, from ${began}${lasted}${size}.${shared}${fed ? ` ${fed}.` : ""}`;
}

function Nearby({ incident, put }: { incident: Data; put?: (finding: Finding) => void }) {
  return (
    <>
      <h2>
        Within six hours, not in it{" "}
        <span className="soft small plain">
          open findings that share nothing with it, or began too far off
        </span>
      </h2>
      <Table className="rows">
        <Table.Tbody>
          {incident.nearby.map((f) => {
            const lag = (f.start - (incident.start ?? 0)) / 1000;
            return (
              <Table.Tr key={f.id}>
                <Table.Td>
                  <Mark kind={f.kind} direction={f.direction} /> <Link to={linkTo(f)}>{f.title}</Link>{" "}
                  <span className="soft">{f.metric}</span>
                </Table.Td>
                <Table.Td className="figure">{figure(f.score, 1)} σ</Table.Td>
                <Table.Td>
                  {lag === 0 ? "same time" : `${duration(Math.abs(lag))} ${lag < 0 ? "before" : "after"}`}
                </Table.Td>
                <Table.Td className="right">{put && <Button onClick={() => put(f)}>Put in</Button>}</Table.Td>
              </Table.Tr>
            );
          })}
        </Table.Tbody>
      </Table>
    </>
  );
}

const DONE: Record<string, string> = {
  make: "put together",
  apart: "said to be not one thing",
  change: "changed",
  "put in": "put in",
  "take out": "took out",
  judge: "judged",
  "take back": "took back the verdict on",
};

/** What was done, by whom and when; nothing of it can be rewritten. */
function History({ incident }: { incident: Data }) {
  return (
    <section aria-label="History">
      <h2>History</h2>
      <ul className="plain history">
        {incident.changes.map((c) => (
          <li key={`${c.at}${c.action}`} className="small">
            <span className="figure">{dayTime(c.at, fleetZone())}</span> <strong>{c.by}</strong>{" "}
            {DONE[c.action] ?? c.action} {changeWords(c.action, c.content)}
          </li>
        ))}
      </ul>
    </section>
  );
}

function changeWords(action: string, content: Record<string, unknown>): string {
  const count = (name: string) => (Array.isArray(content[name]) ? content[name].length : 0);
  if (action === "change")
    return Object.entries((content.after ?? {}) as Record<string, string>)
      .map(([name, value]) => `${name.replace("_", " ")} to “${value || "nobody"}”`)
      .join(", ");
  if (action === "judge")
    return `${plural(count("entries"), "finding")} ${VERDICT_WORDS[String(content.verdict)]}`;
  if (action === "take back") return plural(count("entries"), "finding");
  return plural(count("spans"), "finding");
}
