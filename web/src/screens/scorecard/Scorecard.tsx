import { useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { Link, useParams } from "react-router";
import { api, get } from "../../api/client";
import { TopBar } from "../../frame";
import { Trouble, Waiting } from "../../parts/ask";
import { Whisker } from "../../parts/marks";
import { dayTime, duration, figure, plural, ratio, spanWords } from "../../parts/words";
import { type False, type Figures, type Missed, type Pair, wider } from "./figures";
import { PrecisionRecall } from "./PrecisionRecall";
import { SmallChart } from "./SmallChart";
import "./scorecard.css";

const LOCAL = Intl.DateTimeFormat().resolvedOptions().timeZone;

export default function Scorecard() {
  const id = Number(useParams().scan);
  const card = useQuery({
    queryKey: ["scorecard", id],
    queryFn: () => get(api.GET("/api/v1/scans/{id}/scorecard", { params: { path: { id } } })),
  });
  const json = useMemo(
    () =>
      card.data
        ? URL.createObjectURL(
            new Blob([JSON.stringify(card.data.figures, null, 1)], { type: "application/json" }),
          )
        : "",
    [card.data],
  );
  if (card.isPending) return <Waiting what="Counting against the logbook" />;
  if (card.isError) return <Trouble error={card.error} retry={() => card.refetch()} />;
  const { scan } = card.data;
  const figures = card.data.figures as unknown as Figures;
  const missed = card.data.missed as unknown as Missed[];
  const wrong = card.data.false as unknown as False[];
  const e = figures.events;
  const counted = e.tp_findings + e.fp_findings;
  const incidents = e.tp_labels + e.fn_labels;
  return (
    <div className="padded card">
      <TopBar>
        <Link to="/scorecards" className="soft">
          Scorecards
        </Link>
        <span className="soft">›</span>
        <h1>
          {scan.plan}, v{scan.version} on {plural(scan.streams, "stream")}
        </h1>
        <span style={{ flex: 1 }} />
        <span className="figure small">
          {spanWords(figures.span.from / 1e6, figures.span.to / 1e6, LOCAL)} · {LOCAL}
        </span>
      </TopBar>
      <h1 className="verdict">
        {counted
          ? `Of ${figure(counted)} findings counted, ${figure(e.tp_findings)} were real; `
          : "No finding could be counted; "}
        {incidents
          ? `of ${figure(incidents)} ${e.recall_of}, ${figure(e.tp_labels)} were found.`
          : "no incident is noted in what was looked at."}
      </h1>
      <p className="soft">
        <LookedAt figures={figures} />
      </p>
      <div className="card-top">
        <PrecisionRecall curve={card.data.curve} events={e} />
        <div>
          <Matrix points={figures.points} share={figures.flagged_share} />
          <KeyFigures figures={figures} />
        </div>
        <ByKind kinds={figures.by_kind} />
      </div>
      <Misses missed={missed} scan={scan.id} />
      <Falses wrong={wrong} scan={scan.id} />
      <footer className="card-foot small">
        <a className="act" href={json} download={`scorecard-${scan.id}.json`}>
          JSON
        </a>
        <button type="button" className="act" onClick={() => print()}>
          Print
        </button>
        <span className="soft figure" style={{ marginLeft: "auto" }}>
          data {card.data.data_digest.slice(0, 10)} · logbook {card.data.logbook_version} · {scan.plan} v
          {scan.version} · code {scan.code_version}
        </span>
      </footer>
      <Notes notes={figures.notes} />
    </div>
  );
}

function LookedAt({ figures }: { figures: Figures }) {
  const { excluded, events, false_per_week } = figures;
  const bounds = events.precision_bounds;
  return (
    <>
      {figure(false_per_week.stream_weeks, 1)} stream-weeks were looked through in full.{" "}
      {excluded.unjudged > 0 &&
        bounds &&
        `${plural(excluded.unjudged, "finding")} elsewhere have no verdict: precision lies between ${ratio(bounds[0])} and ${ratio(bounds[1])} whatever they are. `}
      {excluded.unsure > 0 && `${plural(excluded.unsure, "finding")} marked unsure are left out. `}
      Figures are in-sample: each sample was judged by a baseline that had seen it.
    </>
  );
}

function Matrix({ points, share }: { points: Figures["points"]; share: number | null }) {
  if (!points) return null;
  const cell = (n: number, tone: number) => (
    <td
      className="figure"
      style={{
        background: `color-mix(in srgb, var(--ink) ${tone}%, var(--paper))`,
        color: tone > 45 ? "var(--paper)" : "var(--ink)",
      }}
    >
      {figure(n)}
    </td>
  );
  const total = points.tp + points.fp + points.fn + points.tn;
  return (
    <section>
      <h2>
        Samples{" "}
        <span className="soft small plain">{`${figure(total)} judged, ${figure((share ?? 0) * 100, 2)} % flagged`}</span>
      </h2>
      <table className="matrix">
        <tbody>
          <tr>
            <th>flagged</th>
            {cell(points.tp, 78)}
            {cell(points.fp, 16)}
          </tr>
          <tr>
            <th>passed</th>
            {cell(points.fn, 16)}
            {cell(points.tn, 5)}
          </tr>
          <tr>
            <th />
            <th>incident</th>
            <th>not</th>
          </tr>
        </tbody>
      </table>
    </section>
  );
}

function KeyFigures({ figures }: { figures: Figures }) {
  const e = figures.events;
  const p = figures.points;
  const rate = figures.false_per_week;
  const rows: [string, string, Pair, string][] = [
    [
      "Precision",
      ratio(e.precision),
      wider(e.precision_ci, e.precision_ci_clustered),
      `${e.tp_findings} of ${e.tp_findings + e.fp_findings} findings`,
    ],
    [
      "Recall",
      ratio(e.recall),
      wider(e.recall_ci, e.recall_ci_clustered),
      `${e.tp_labels} of ${e.tp_labels + e.fn_labels} incidents`,
    ],
    ["F1", ratio(e.f1), e.f1_ci, "of the two"],
    ["Incident precision", ratio(e.incident_precision), null, "joined by incident"],
    ["Specificity", p?.specificity == null ? "–" : p.specificity.toFixed(4), null, "by sample"],
    ["Range precision", ratio(figures.ranges?.precision), null, "by range"],
    ["Range recall", ratio(figures.ranges?.recall), null, "by range"],
    [
      "False a week",
      figure(rate.per_stream, 2),
      rate.per_stream_ci,
      `a stream; ${figure(rate.total, 1)} for all`,
    ],
    [
      "Delay, median",
      duration(figures.delay.median_s),
      null,
      `of ${figures.delay.n}; 90 %: ${duration(figures.delay.p90_s)}`,
    ],
  ];
  return (
    <section>
      <h2>
        Figures <span className="soft small plain">95 % intervals, the wider of two</span>
      </h2>
      <table className="key-figures">
        <tbody>
          {rows.map(([name, value, interval, of]) => (
            <tr key={name}>
              <th>{name}</th>
              <td className="figure">
                <strong>{value}</strong>
              </td>
              <td className="figure soft">
                {interval ? `${ratio(interval[0])} – ${ratio(interval[1])}` : ""}
              </td>
              <td className="soft small">{of}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function ByKind({ kinds }: { kinds: Figures["by_kind"] }) {
  return (
    <section>
      <h2>By kind</h2>
      <table className="rows">
        <thead>
          <tr>
            <th>incidents</th>
            <th className="figure">found</th>
            <th>recall</th>
            <th className="figure">delay</th>
          </tr>
        </thead>
        <tbody>
          {Object.entries(kinds.labels).map(([kind, k]) => (
            <tr key={kind}>
              <td>{kind}</td>
              <td className="figure">
                {k.tp} of {k.tp + k.fn}
              </td>
              <td>
                <Whisker value={k.recall} low={k.recall_ci?.[0] ?? null} high={k.recall_ci?.[1] ?? null} />
              </td>
              <td className="figure">{duration(k.delay.median_s)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <table className="rows" style={{ marginTop: 10 }}>
        <thead>
          <tr>
            <th>findings</th>
            <th className="figure">real</th>
            <th className="figure">precision</th>
          </tr>
        </thead>
        <tbody>
          {Object.entries(kinds.findings).map(([kind, k]) => (
            <tr key={kind}>
              <td>{kind}</td>
              <td className="figure">
                {k.tp} of {k.tp + k.fp}
              </td>
              <td className="figure">{ratio(k.precision)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

/** A link to the workbench around a span. */
function chartLink(stream: number, scan: number, startNs: number, endNs: number): string {
  const margin = Math.max(2 * 86_400_000, (endNs - startNs) / 1e6);
  return `/workbench/${stream}?scan=${scan}&from=${Math.round(startNs / 1e6 - margin)}&to=${Math.round(endNs / 1e6 + margin)}`;
}

const SHOWN = 8;

function Misses({ missed, scan }: { missed: Missed[]; scan: number }) {
  return (
    <section aria-label="Missed">
      <h2>
        Missed{" "}
        <span className="soft small plain">
          {missed.length ? plural(missed.length, "incident") : "none: every incident was found"}
        </span>
      </h2>
      <ul className="charts">
        {missed.slice(0, SHOWN).map((m) => (
          <li key={`${m.title}${m.start_ns}`}>
            {m.stream !== null && (
              <Link to={chartLink(m.stream, scan, m.start_ns, m.end_ns)}>
                <SmallChart scan={scan} stream={m.stream} from={m.start_ns / 1e6} to={m.end_ns / 1e6} />
                <span>{m.title}</span>
                <span className="soft small">
                  {m.kind || "incident"}, {dayTime(m.start_ns / 1e6, LOCAL)}
                  {m.cause ? `: ${m.cause}` : ""}
                </span>
              </Link>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}

function Falses({ wrong, scan }: { wrong: False[]; scan: number }) {
  return (
    <section aria-label="False">
      <h2>
        False{" "}
        <span className="soft small plain">
          {wrong.length ? `${plural(wrong.length, "finding")}, the strongest first` : "none"}
        </span>
      </h2>
      <ul className="charts">
        {wrong.slice(0, SHOWN).map((f) => (
          <li key={`${f.stream}${f.kind}${f.start_ns}`}>
            <Link to={chartLink(f.stream, scan, f.start_ns, f.end_ns)}>
              <SmallChart scan={scan} stream={f.stream} from={f.start_ns / 1e6} to={f.end_ns / 1e6} />
              <span>{f.title}</span>
              <span className="soft small">
                {f.kind} {f.direction || "without a side"}, {dayTime(f.start_ns / 1e6, LOCAL)},{" "}
                {figure(f.score, 1)} σ
              </span>
            </Link>
          </li>
        ))}
      </ul>
    </section>
  );
}

function Notes({ notes }: { notes: Record<string, string> }) {
  return (
    <details className="small soft">
      <summary>How it is counted, and what is not computed</summary>
      <p>
        A finding and an incident match when their closed spans overlap on a stream the entry covers.
        Precision counts findings, recall counts incidents; foreseen and false alarm count as false, unsure is
        left out. Only spans that were looked through count, plus findings somebody judged.
      </p>
      <ul>
        {Object.entries(notes).map(([name, text]) => (
          <li key={name}>
            {name}: {text}
          </li>
        ))}
      </ul>
    </details>
  );
}
