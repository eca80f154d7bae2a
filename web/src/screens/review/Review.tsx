import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, type Entry, type Finding, get } from "../../api/client";
import { drawBand, drawFindings, drawFlags, drawGaps } from "../../charts/drawing";
import { type Line, type Range, TimePane } from "../../charts/TimePane";
import { TopBar } from "../../frame";
import { useKeys } from "../../keys/useKeys";
import { Trouble, Waiting } from "../../parts/ask";
import { Mark, VERDICT_WORDS } from "../../parts/marks";
import { type Judgement, Verdicts, verdictKeys } from "../../parts/Verdicts";
import { dayTime, duration, figure, plural, ratio, zoneName } from "../../parts/words";
import { linkTo } from "../tide-table/Strongest";
import { LogbookLane } from "../workbench/LogbookLane";
import { tickWords } from "../workbench/Stack";
import { Before } from "./Before";
import "../workbench/workbench.css";
import "./review.css";

interface Given {
  finding: Finding;
  entry: Entry;
}

export default function Review() {
  const client = useQueryClient();
  const [params, setParams] = useSearchParams();
  const [given, setGiven] = useState<Given[]>([]);
  const [cause, setCause] = useState("");
  const [error, setError] = useState<unknown>(null);
  const [isSending, setSending] = useState(false);
  const causeField = useRef<HTMLInputElement>(null);
  const review = useQuery({ queryKey: ["review"], queryFn: () => get(api.GET("/api/v1/review")) });
  // The queue is pinned: verdicts take findings out of it, hints from elsewhere do not reorder it.
  const [queue, setQueue] = useState<Finding[] | null>(null);
  useEffect(() => {
    if (review.data && queue === null) setQueue(review.data.queue);
  }, [review.data, queue]);
  const judged = useMemo(() => new Set(given.map((g) => g.finding.id)), [given]);
  const rest = useMemo(() => (queue ?? []).filter((f) => !judged.has(f.id)), [queue, judged]);
  const wanted = Number(params.get("finding"));
  const at = Math.max(
    0,
    rest.findIndex((f) => f.id === wanted),
  );
  const finding = rest[at];
  const show = (f?: Finding) => setParams(f ? { finding: String(f.id) } : {}, { replace: true });

  const judge = async (verdict: Judgement) => {
    if (!finding || isSending) return;
    setSending(true);
    setError(null);
    try {
      const entry = await get(
        api.POST("/api/v1/findings/{id}/verdict", {
          params: { path: { id: finding.id } },
          body: { verdict, cause },
        }),
      );
      setGiven([...given, { finding, entry }]);
      setCause("");
      show(rest[at + 1] ?? rest[0]);
      client.invalidateQueries({ queryKey: ["review"] });
    } catch (problem) {
      setError(problem);
    } finally {
      setSending(false);
    }
  };
  const undo = async () => {
    const last = given.at(-1);
    if (!last) return;
    try {
      await api.DELETE("/api/v1/logbook/{id}", { params: { path: { id: last.entry.id } } });
      setGiven(given.slice(0, -1));
      show(last.finding);
      client.invalidateQueries({ queryKey: ["review"] });
    } catch (problem) {
      setError(problem);
    }
  };
  useKeys({
    ...verdictKeys((verdict) => void judge(verdict)),
    ArrowRight: () => show(rest[Math.min(at + 1, rest.length - 1)]),
    ArrowLeft: () => show(rest[Math.max(at - 1, 0)]),
    z: () => void undo(),
    c: () => causeField.current?.focus(),
  });

  if (review.isPending || queue === null)
    return review.isError ? <Trouble error={review.error} /> : <Waiting what="Reading the queue" />;
  const {
    judged: done,
    total,
    precision,
    precision_ci,
    precision_counts,
  } = review.data ?? { judged: 0, total: 0, precision: null, precision_ci: null, precision_counts: [0, 0] };
  return (
    <div className="review">
      <TopBar>
        <h1>Review</h1>
        <span className="soft">open findings of the standing plans, strongest first</span>
        <span style={{ flex: 1 }} />
        <span className="figure small" role="status" aria-label="Progress">
          {figure(done)} of {figure(total)} judged
        </span>
      </TopBar>
      <section className="review-main">
        <div
          className="review-progress"
          role="progressbar"
          aria-label="Judged findings"
          aria-valuemin={0}
          aria-valuemax={total}
          aria-valuenow={done}
        >
          <div style={{ width: `${total ? (100 * done) / total : 0}%` }} />
        </div>
        {finding ? (
          <OneFinding key={finding.id} finding={finding} place={at + 1} count={rest.length} />
        ) : (
          <AllDone />
        )}
      </section>
      <aside className="review-side">
        <p className="soft small">
          {precision === null || precision === undefined
            ? "No verdict on these findings yet."
            : `Of ${precision_counts[1]} judged findings ${precision_counts[0]} were real: precision ${ratio(precision)}, 95 % ${ratio(precision_ci?.[0])} to ${ratio(precision_ci?.[1])}.`}
        </p>
        <h2>What was it?</h2>
        <Verdicts judge={(verdict) => void judge(verdict)} isOff={!finding || isSending} />
        {error !== null && <Trouble error={error} />}
        <label>
          Cause <kbd>C</kbd>
          <input
            ref={causeField}
            className="field"
            style={{ width: "100%" }}
            list="causes"
            value={cause}
            onChange={(e) => setCause(e.target.value)}
            onKeyDown={(e) => (e.key === "Enter" || e.key === "Escape") && e.currentTarget.blur()}
          />
        </label>
        <div className="acts">
          <button type="button" className="act" onClick={undo} disabled={!given.length}>
            Undo
          </button>
          <span className="soft small">
            <kbd>Z</kbd>{" "}
            {given.length
              ? `takes back ${VERDICT_WORDS[given.at(-1)?.entry.verdict ?? ""]} on ${given.at(-1)?.finding.title}`
              : "nothing to take back"}
          </span>
        </div>
        <p className="soft small">
          <kbd>←</kbd> back · <kbd>→</kbd> skip · <kbd>?</kbd> keys
        </p>
      </aside>
    </div>
  );
}

function AllDone() {
  return (
    <div className="empty">
      <h2>Every finding has a verdict</h2>
      <p>
        The <Link to="/scorecards">scorecards</Link> say what that means for precision; new findings come with
        the next scan.
      </p>
    </div>
  );
}

/** What was found, in one sentence. */
export function findingWords(f: Finding): string {
  const zone = zoneName(f.start, f.zone);
  if (f.kind === "shift") {
    return `${dayTime(f.start, f.zone)} ${zone}: a step of ${(f.size ?? 0) > 0 ? "+" : ""}${figure(f.size)} ${f.unit}, confidence ${ratio(f.confidence)}.`;
  }
  return `${dayTime(f.start, f.zone)} – ${dayTime(f.end, f.zone)} ${zone}, ${plural(f.points, "sample")} ${f.direction || "without a side"}, up to ${figure(f.score, 1)} σ: ${figure(f.peak_value)} ${f.unit} where ${figure(f.expected)} was expected.`;
}

function OneFinding({ finding, place, count }: { finding: Finding; place: number; count: number }) {
  const margin = Math.max(2 * 86_400_000, 1.5 * (finding.end - finding.start));
  const [range, setRange] = useState<Range>([finding.start - margin, finding.end + margin]);
  const context = useQuery({
    queryKey: ["finding", finding.id],
    queryFn: () => get(api.GET("/api/v1/findings/{id}", { params: { path: { id: finding.id } } })),
  });
  const view = useQuery({
    queryKey: ["window", finding.scan, finding.stream, range[0], range[1], 4000, false],
    queryFn: () =>
      get(
        api.GET("/api/v1/scans/{id}/streams/{stream}/window", {
          params: {
            path: { id: finding.scan, stream: finding.stream },
            query: { from: range[0], to: range[1], points: 4000 },
          },
        }),
      ),
    placeholderData: keepPreviousData,
  });
  const lines = useMemo<Line[]>(
    () =>
      view.data
        ? [
            { data: view.data.expected ?? [], stroke: "line", width: 1, dash: [4, 4] },
            { data: view.data.value, stroke: "ink", width: 1.3 },
          ]
        : [],
    [view.data],
  );
  const words = useMemo(() => tickWords(finding.zone), [finding.zone]);
  const data = view.data;
  const levels = { above: data?.level_above ?? null, below: data?.level_below ?? null };
  return (
    <>
      <div className="review-title">
        <h1>{finding.title}</h1>
        <span className="soft">
          {finding.metric} · {finding.unit}
        </span>
        <span className="figure small" style={{ marginLeft: "auto" }}>
          {place} of {count} open
        </span>
      </div>
      <p style={{ margin: "2px 0 8px" }}>
        <Mark kind={finding.kind} direction={finding.direction} /> {findingWords(finding)}{" "}
        <Link className="act" to={linkTo(finding)}>
          Open in workbench
        </Link>
      </p>
      {data ? (
        <div className="review-chart">
          <TimePane
            time={data.time}
            lines={lines}
            range={range}
            onRange={setRange}
            height={262}
            zone={finding.zone}
            tickWords={words}
            label={`${finding.title} around the finding`}
            redrawOn={finding.id}
            under={(u, c) => {
              drawGaps(u, c, data);
              drawBand(u, c, data, levels);
            }}
            over={(u, c) => {
              drawFlags(u, c, data, (i) => data.value[i] ?? null, levels);
              drawFindings(u, c, data.findings ?? [], finding.id, "both");
            }}
          />
          <LogbookLane entries={data.entries ?? []} range={range} zone={finding.zone} />
        </div>
      ) : view.isError ? (
        <Trouble error={view.error} retry={() => view.refetch()} />
      ) : (
        <div style={{ height: 282 }} />
      )}
      {context.data && (
        <>
          <Before finding={finding} before={context.data.before} />
          <BesideIt finding={finding} beside={context.data.beside} />
          <datalist id="causes">
            {context.data.causes.map((c) => (
              <option key={c} value={c} />
            ))}
          </datalist>
        </>
      )}
    </>
  );
}

function BesideIt({ finding, beside }: { finding: Finding; beside: Finding[] }) {
  return (
    <section>
      <h2>
        What else moved{" "}
        <span className="soft small plain">
          {beside.length ? "findings of other streams at about the same time" : ""}
        </span>
      </h2>
      {beside.length === 0 && <p className="soft small">No other stream has a finding at about this time.</p>}
      <table className="rows">
        <tbody>
          {beside.slice(0, 6).map((f) => {
            const lag = (f.start - finding.start) / 1000;
            return (
              <tr key={f.id}>
                <td>
                  <Mark kind={f.kind} direction={f.direction} /> <Link to={linkTo(f)}>{f.title}</Link>{" "}
                  <span className="soft">{f.metric}</span>
                </td>
                <td className="figure">{figure(f.score, 1)} σ</td>
                <td>
                  {lag === 0 ? "same time" : `${duration(Math.abs(lag))} ${lag < 0 ? "before" : "after"}`}
                </td>
                <td className="soft">{f.verdict ? VERDICT_WORDS[f.verdict] : "open"}</td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </section>
  );
}
