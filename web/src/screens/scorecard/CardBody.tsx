import { Box, Button, Table } from "@mantine/core";
import { type ReactNode, useState } from "react";
import { Link } from "react-router";
import type { Curve } from "../../api/client";
import { kindWords, Whisker } from "../../parts/marks";
import { SideBySide } from "../../parts/SideBySide";
import { dayTime, duration, figure, plural, ratio } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { Calibration } from "./Calibration";
import { Cuts } from "./Cuts";
import { Delays } from "./Delays";
import { type Card, type False, type Figures, type Missed, type Pair, wider } from "./figures";
import { Months } from "./Months";
import { type Marked, PrecisionRecall } from "./PrecisionRecall";
import { SmallChart } from "./SmallChart";
import scorecardCss from "./scorecard.module.css";

interface Props {
  card: Card;
  /** Whose charts the small pictures show; null where the scan is gone. */
  scan: number | null;
  mode: string;
  replay?: Curve;
  marked?: Marked | null;
  part?: ReactNode;
  level?: ReactNode;
  beside?: ReactNode;
  /** The false ones to be judged, where the scan is at hand. */
  falses?: ReactNode;
}

/** All of a scorecard that a live one and a published one share. */
export function CardBody({ card, scan, mode, replay, marked, part, level, beside, falses }: Props) {
  const figures = card.figures as unknown as Figures;
  const e = figures.events;
  const counted = e.tp_findings + e.fp_findings;
  const incidents = e.tp_labels + e.fn_labels;
  return (
    <>
      <Box component="h1" fz={22} className="verdict">
        {counted
          ? `Of ${figure(counted)} findings counted, ${figure(e.tp_findings)} were real; `
          : "No finding could be counted; "}
        {incidents
          ? `of ${figure(incidents)} ${e.recall_of}, ${figure(e.tp_labels)} were found.`
          : "no incident is noted in what was looked at."}
      </Box>
      <Box component="p" mb={4} className="soft small looked">
        <LookedAt figures={figures} judged={card.judged_weeks} quiet={card.quiet_findings} /> {part}
      </Box>
      <Locked locked={card.locked} />
      <SideBySide
        of="minmax(320px, 2fr) minmax(0, 3.1fr)"
        gap={30}
        m="4px 0 10px"
        align="start"
        className={scorecardCss.cardTop}
      >
        <div>
          <PrecisionRecall curve={card.curve} events={e} replay={replay} marked={marked} />
          {level}
          {beside ?? (
            <p className="soft small">
              {mode === "replay"
                ? "Of a replay as if live."
                : "In-sample: judged by a baseline that had seen it."}
            </p>
          )}
        </div>
        <div>
          <SideBySide of="repeat(auto-fit, minmax(min(100%, 300px), 1fr))" gap={22}>
            <Matrix points={figures.points} share={figures.flagged_share} />
            <KeyFigures figures={figures} />
          </SideBySide>
          <ByKind kinds={figures.by_kind} />
          <SampledWords figures={figures} />
        </div>
      </SideBySide>
      <SideBySide of="1fr 2fr" gap={34} pt={6} className="lined">
        <Misses missed={card.missed} scan={scan} />
        <Falses wrong={card.false} scan={scan} isListed={falses !== undefined} />
      </SideBySide>
      {card.false.length > 0 && falses}
      <SideBySide of="1fr 1fr 1.25fr" gap={30} pt={6} mb={10} align="start" className="lined">
        <Delays delays={card.delays} />
        <Calibration calibration={card.calibration} levels={card.curve.levels} />
        <Months months={card.by_month} />
      </SideBySide>
      <Cuts card={card} scan={scan} />
      <Notes notes={figures.notes} />
    </>
  );
}

function LookedAt({ figures, judged, quiet }: { figures: Figures; judged: number; quiet: number }) {
  const { excluded, events, false_per_week } = figures;
  const bounds = events.precision_bounds;
  const share = judged ? (100 * false_per_week.stream_weeks) / judged : null;
  return (
    <>
      {figure(false_per_week.stream_weeks, 1)} of {figure(judged, 1)} stream-weeks were looked through in full
      {share === null ? "" : ` (${figure(share, 0)} %)`}.{" "}
      {excluded.unjudged > 0 &&
        bounds &&
        `${plural(excluded.unjudged, "finding")} elsewhere have no verdict: precision lies between ${ratio(bounds[0])} and ${ratio(bounds[1])} whatever they are. `}
      {quiet > 0 && `${plural(quiet, "finding")} in planned work ${quiet === 1 ? "is" : "are"} left out. `}
      {excluded.unsure > 0 && `${plural(excluded.unsure, "finding")} marked unsure are left out. `}
    </>
  );
}

/** Figures of the locked span alone, and whether they can be trusted. */
function Locked({ locked }: { locked: Card["locked"] }) {
  if (!locked) return null;
  const e = locked.events as unknown as Figures["events"];
  return (
    <p className="small">
      On the locked span, {dayTime(locked.span.start, fleetZone())} to {dayTime(locked.span.end, fleetZone())}
      : precision {ratio(e.precision)} ({e.tp_findings} of {e.tp_findings + e.fp_findings}), recall{" "}
      {ratio(e.recall)} ({e.tp_labels} of {e.tp_labels + e.fn_labels}
      ). {locked.broken && <strong className="broken">The lock is broken: {locked.broken}.</strong>}
    </p>
  );
}

function Matrix({ points, share }: { points: Figures["points"]; share: number | null }) {
  if (!points) return null;
  const cell = (n: number, tone: number) => (
    <Table.Td
      w="42%"
      className="figure"
      style={{
        background: `color-mix(in srgb, var(--ink) ${tone}%, var(--paper))`,
        color: tone > 45 ? "var(--paper)" : "var(--ink)",
      }}
    >
      {figure(n)}
    </Table.Td>
  );
  const total = points.tp + points.fp + points.fn + points.tn;
  return (
    <section aria-label="Samples">
      <h2>
        Samples{" "}
        <span className="soft small plain">{`${figure(total)} judged, ${figure((share ?? 0) * 100, 2)} % flagged`}</span>
      </h2>
      <Table unstyled className={scorecardCss.matrix}>
        <Table.Tbody>
          <Table.Tr>
            <Table.Th scope="row" fw={400} className="soft small">
              flagged
            </Table.Th>
            {cell(points.tp, 78)}
            {cell(points.fp, 16)}
          </Table.Tr>
          <Table.Tr>
            <Table.Th scope="row" fw={400} className="soft small">
              passed
            </Table.Th>
            {cell(points.fn, 16)}
            {cell(points.tn, 5)}
          </Table.Tr>
          <Table.Tr>
            <Table.Td />
            <Table.Th scope="col" fw={400} className="soft small">
              incident
            </Table.Th>
            <Table.Th scope="col" fw={400} className="soft small">
              not
            </Table.Th>
          </Table.Tr>
        </Table.Tbody>
      </Table>
      <p className="small soft">
        By sample: precision {ratio(points.precision)}, recall {ratio(points.recall)}, accuracy{" "}
        {points.accuracy === null ? "–" : points.accuracy.toFixed(4)}, F1 {ratio(points.f1)}.
      </p>
    </section>
  );
}

function KeyFigures({ figures }: { figures: Figures }) {
  const e = figures.events;
  const p = figures.points;
  const rate = figures.false_per_week;
  const pair = (v: Pair | undefined, digits = 2) =>
    v ? `${v[0].toFixed(digits)} – ${v[1].toFixed(digits)}` : "";
  const rows: [string, string, string, string][] = [
    [
      "Precision",
      ratio(e.precision),
      pair(wider(e.precision_ci, e.precision_ci_clustered)),
      `${e.tp_findings} of ${e.tp_findings + e.fp_findings}`,
    ],
    [
      "Recall",
      ratio(e.recall),
      pair(wider(e.recall_ci, e.recall_ci_clustered)),
      `${e.tp_labels} of ${e.tp_labels + e.fn_labels}`,
    ],
    ["F1", ratio(e.f1), pair(e.f1_ci), "of the two"],
    ["Incident precision", ratio(e.incident_precision), pair(e.incident_precision_ci), "joined"],
    [
      "Specificity",
      p?.specificity == null ? "–" : p.specificity.toFixed(4),
      pair(p?.specificity_ci, 4),
      "by sample",
    ],
    ["Range precision", ratio(figures.ranges?.precision), pair(figures.ranges?.precision_ci), "by range"],
    ["Range recall", ratio(figures.ranges?.recall), pair(figures.ranges?.recall_ci), "by range"],
    [
      "False a week",
      figure(rate.per_stream, 2),
      pair(rate.per_stream_ci),
      `${figure(rate.total, 1)} for all`,
    ],
    [
      "Delay, median",
      duration(figures.delay.median_s),
      figures.delay.median_ci
        ? `${duration(figures.delay.median_ci[0])} – ${duration(figures.delay.median_ci[1])}`
        : "",
      `of ${figures.delay.n}`,
    ],
  ];
  return (
    <section aria-label="Figures">
      <h2>
        Figures <span className="soft small plain">95 % intervals, the wider of two</span>
      </h2>
      <Table unstyled className="key-figures pairs">
        <Table.Tbody>
          {rows.map(([name, value, interval, of]) => (
            <Table.Tr key={name}>
              <Table.Th scope="row">{name}</Table.Th>
              <Table.Td className="figure">
                <strong>{value}</strong>
              </Table.Td>
              <Table.Td className="figure soft">{interval}</Table.Td>
              <Table.Td className="soft small">{of}</Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
    </section>
  );
}

function ByKind({ kinds }: { kinds: Figures["by_kind"] }) {
  return (
    <section aria-label="By kind">
      <h2>By kind</h2>
      <Table className="rows">
        <Table.Thead>
          <Table.Tr>
            <Table.Th>incidents</Table.Th>
            <Table.Th className="figure">found</Table.Th>
            <Table.Th>recall</Table.Th>
            <Table.Th className="figure">median delay</Table.Th>
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {Object.entries(kinds.labels).map(([kind, k]) => (
            <Table.Tr key={kind}>
              <Table.Td>{kind}</Table.Td>
              <Table.Td className="figure">
                {k.tp} of {k.tp + k.fn}
              </Table.Td>
              <Table.Td>
                <Whisker value={k.recall} low={k.recall_ci?.[0] ?? null} high={k.recall_ci?.[1] ?? null} />{" "}
                <span className="figure">{ratio(k.recall)}</span>
              </Table.Td>
              <Table.Td className="figure">{duration(k.delay.median_s)}</Table.Td>
            </Table.Tr>
          ))}
          {Object.entries(kinds.findings).map(([kind, k]) => (
            <Table.Tr key={`finding ${kind}`}>
              <Table.Td className="soft">findings: {kind}</Table.Td>
              <Table.Td className="figure">
                {k.tp} of {k.tp + k.fp}
              </Table.Td>
              <Table.Td className="soft">real, precision {ratio(k.precision)}</Table.Td>
              <Table.Td />
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
    </section>
  );
}

/** What findings and spans drawn by chance say of those that nobody looked at. */
function SampledWords({ figures }: { figures: Figures }) {
  const s = figures.sampled;
  if (!s) return null;
  const pair = (v: Pair) => (v ? ` (${ratio(v[0])} to ${ratio(v[1])})` : "");
  return (
    <section aria-label="Sampled">
      <h2>By a fair sample</h2>
      <p>
        {plural(s.n, "verdict")} on what was drawn by chance, each weighted by that chance: precision{" "}
        <strong>{ratio(s.precision)}</strong>
        {pair(s.precision_ci)}, recall <strong>{ratio(s.recall)}</strong>
        {pair(s.recall_ci)}.
      </p>
    </section>
  );
}

/** A link to the workbench around a span. */
export function chartLink(stream: number, scan: number, start: number, end: number): string {
  const margin = Math.max(2 * 86_400_000, end - start);
  return `/workbench/${stream}?scan=${scan}&from=${Math.round(start - margin)}&to=${Math.round(end + margin)}`;
}

const SHOWN = 4;

/** The first few of a list, and a button for the rest of them. */
function useFirst<T>(all: T[]): { shown: T[]; more: ReactNode } {
  const [isAll, setAll] = useState(false);
  const more = !isAll && all.length > SHOWN && (
    <Button onClick={() => setAll(true)}>Show all {figure(all.length)}</Button>
  );
  return { shown: isAll ? all : all.slice(0, SHOWN), more };
}

function Misses({ missed, scan }: { missed: Missed[]; scan: number | null }) {
  const { shown, more } = useFirst(missed);
  return (
    <section aria-label="Missed">
      <h2>
        Missed{" "}
        <span className="soft small plain">
          {missed.length ? plural(missed.length, "incident") : "none: every incident was found"}
        </span>
      </h2>
      <Pieces>
        {shown.map((m) => (
          <li key={`${m.title}${m.start}`}>
            <Piece scan={scan} stream={m.stream} start={m.start} end={m.end} title={m.title}>
              {m.kind || "incident"}, {dayTime(m.start, fleetZone())}
              {m.cause ? `: ${m.cause}` : ""}
            </Piece>
          </li>
        ))}
      </Pieces>
      {more}
    </section>
  );
}

export function Falses({
  wrong,
  scan,
  isListed,
}: {
  wrong: False[];
  scan: number | null;
  isListed?: boolean;
}) {
  const { shown, more } = useFirst(wrong);
  return (
    <section aria-label="False">
      <h2>
        False{" "}
        <span className="soft small plain">
          {wrong.length ? `${plural(wrong.length, "finding")}, the strongest first` : "none"}
        </span>
      </h2>
      <Pieces>
        {shown.map((f) => (
          <li key={`${f.stream}${f.kind}${f.start}`}>
            <Piece scan={scan} stream={f.stream} start={f.start} end={f.end} title={f.title}>
              {kindWords(f)}, {dayTime(f.start, fleetZone())}, {figure(f.score, 1)} σ
            </Piece>
          </li>
        ))}
      </Pieces>
      {!isListed && more}
    </section>
  );
}

const PIECE = { of: "1fr", pt: 4, className: "ruled lights" } as const;

function Pieces({ children }: { children: ReactNode }) {
  return (
    <SideBySide
      component="ul"
      of="repeat(auto-fill, minmax(130px, 1fr))"
      gap="10px 16px"
      m="4px 0 10px"
      className="plain"
    >
      {children}
    </SideBySide>
  );
}

/** A small chart that leads to the workbench; words alone where there is no chart to be had. */
function Piece({
  scan,
  stream,
  start,
  end,
  title,
  children,
}: {
  scan: number | null;
  stream: number | null;
  start: number;
  end: number;
  title: string;
  children: ReactNode;
}) {
  const words = (
    <>
      <span>{title}</span>
      <span className="soft small">{children}</span>
    </>
  );
  if (scan === null || stream === null) return <SideBySide {...PIECE}>{words}</SideBySide>;
  return (
    <SideBySide {...PIECE} component={Link} to={chartLink(stream, scan, start, end)}>
      <SmallChart scan={scan} stream={stream} from={start} to={end} />
      {words}
    </SideBySide>
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
