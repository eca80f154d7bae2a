import { Link } from "react-router";
import type { Curve, Scan, Schema } from "../../api/client";
import { Whisker } from "../../parts/marks";
import { SideBySide } from "../../parts/SideBySide";
import { duration, figure, ratio } from "../../parts/words";

export interface Figures {
  findings: number;
  precision: number | null;
  precisionCi: [number | null, number | null];
  precisionOf: [number, number];
  recall: number | null;
  recallCi: [number | null, number | null];
  recallOf: [number, number];
  falseAWeek: number | null;
  delay: number | null;
  unjudged: number;
}

type Events = {
  tp_findings: number;
  fp_findings: number;
  tp_labels: number;
  fn_labels: number;
  precision: number | null;
  precision_ci: [number, number] | null;
  recall: number | null;
  recall_ci: [number, number] | null;
};

/** The figures at the level in force, or at the level dragged to: both as the server computed them. */
export function figuresAt(data: Schema["StreamCurve"], level: number | null): Figures {
  if (level === null) {
    const force = data.in_force as {
      findings: number;
      events: Events;
      delay: { median_s: number | null };
      false_per_week: { per_stream: number | null };
      excluded: { unjudged: number };
    };
    const e = force.events;
    return {
      findings: force.findings,
      precision: e.precision,
      precisionCi: e.precision_ci ?? [null, null],
      precisionOf: [e.tp_findings, e.tp_findings + e.fp_findings],
      recall: e.recall,
      recallCi: e.recall_ci ?? [null, null],
      recallOf: [e.tp_labels, e.tp_labels + e.fn_labels],
      falseAWeek: force.false_per_week.per_stream,
      delay: force.delay.median_s,
      unjudged: force.excluded.unjudged,
    };
  }
  const c: Curve = data.curve;
  const i = Math.min(200, Math.max(0, Math.round((level - 2) / 0.05)));
  const at = (list: (number | null)[]) => list[i] ?? null;
  const count = (list: (number | null)[]) => list[i] ?? 0;
  return {
    findings: count(c.findings),
    precision: at(c.precision),
    precisionCi: [at(c.precision_low), at(c.precision_high)],
    precisionOf: [count(c.tp_findings), count(c.tp_findings) + count(c.fp_findings)],
    recall: at(c.recall),
    recallCi: [at(c.recall_low), at(c.recall_high)],
    recallOf: [count(c.tp_labels), count(c.tp_labels) + count(c.fn_labels)],
    falseAWeek: at(c.false_per_week),
    delay: at(c.delay_s),
    unjudged: count(c.unjudged),
  };
}

export function ScoreStrip({
  curve,
  level,
  scan,
  replay,
}: {
  curve: Schema["StreamCurve"];
  level: number | null;
  scan?: Scan;
  /** The same plan replayed as if live, at its own levels. */
  replay?: Schema["StreamCurve"];
}) {
  const f = figuresAt(curve, level);
  const then = replay ? figuresAt(replay, level) : null;
  const weeks = curve.curve.stream_weeks;
  return (
    <section aria-label="Against the logbook">
      <h2>Against the logbook</h2>
      <p className="small tight" role="status" aria-label="Findings at this level">
        <strong className="figure">{figure(f.findings)}</strong> {f.findings === 1 ? "finding" : "findings"}{" "}
        at {level === null ? "the level in force" : `${level.toFixed(2)} σ`}
        {f.unjudged > 0 && `, ${f.unjudged} of them outside what was looked through`}
      </p>
      <SideBySide of="60px 120px 42px 1fr" gap="3px 6px" align="center" className="strip nowrap">
        <span>Precision</span>
        <Whisker value={f.precision} low={f.precisionCi[0]} high={f.precisionCi[1]} />
        <strong className="figure right precision">{ratio(f.precision)}</strong>
        <span className="soft small right">
          {f.precisionOf[0]} of {f.precisionOf[1]}
        </span>
        {then && <Then name="precision" value={then.precision} ci={then.precisionCi} of={then.precisionOf} />}
        <span>Recall</span>
        <Whisker value={f.recall} low={f.recallCi[0]} high={f.recallCi[1]} />
        <strong className="figure right recall">{ratio(f.recall)}</strong>
        <span className="soft small right">
          {f.recallOf[0]} of {f.recallOf[1]}
        </span>
        {then && <Then name="recall" value={then.recall} ci={then.recallCi} of={then.recallOf} />}
        <span>False</span>
        <span className="soft small">a week, in {figure(weeks, 0)} weeks</span>
        <strong className="figure right">{figure(f.falseAWeek, 2)}</strong>
        <span />
        <span>Delay</span>
        <span className="soft small">median</span>
        <strong className="figure right delay">{duration(f.delay)}</strong>
      </SideBySide>
      {then && (
        <p className="small tight">
          In replay <span className="figure">{figure(then.falseAWeek, 2)}</span> false a week, median delay{" "}
          <span className="figure">{duration(then.delay)}</span>.
        </p>
      )}
      <p className="soft small tight">
        This stream, {scan?.mode === "replay" ? "replayed" : "in-sample"}
        {then && " (■), replayed (□)"}; bars are 95 % intervals.{" "}
        {scan && (
          <Link to={`/scorecards/${scan.id}`} className="act">
            {scan.streams > 1 ? `All ${scan.streams} streams` : "Its scorecard"}
          </Link>
        )}
      </p>
    </section>
  );
}

/** The row of a replay under that of the fit. */
function Then({
  name,
  value,
  ci,
  of,
}: {
  name: string;
  value: number | null;
  ci: [number | null, number | null];
  of: [number, number];
}) {
  return (
    <>
      <span className="soft small">in replay</span>
      <Whisker value={value} low={ci[0]} high={ci[1]} isOpen />
      <strong className={`figure right replay-${name}`}>{ratio(value)}</strong>
      <span className="soft small right">
        {of[0]} of {of[1]}
      </span>
    </>
  );
}

/** What the stream's own tails promise at a level, in words; the level in force has its own figures. */
export function promiseWords(data: Schema["StreamCurve"], level: number | null): string {
  const force = data.in_force as { odds?: number | null; per_week?: number | null };
  const i = level === null ? -1 : Math.min(200, Math.max(0, Math.round((level - 2) / 0.05)));
  const odds = i < 0 ? force.odds : data.promised.odds?.[i];
  const weekly = i < 0 ? force.per_week : data.promised.per_week?.[i];
  const words = [
    odds ? `1 in ${figure(odds, 0)} samples` : "",
    weekly === null || weekly === undefined ? "" : `${figure(weekly, 2)} false findings a week promised`,
  ];
  return words.filter(Boolean).join("; ");
}

/** Odds of a score this large, as the server's table has them; null under the table or without one. */
export function oddsOf(data: Schema["StreamCurve"] | undefined, score: number | null): number | null {
  const size = score === null ? 0 : Math.abs(score);
  if (size < 2) return null;
  return data?.promised.odds?.[Math.min(200, Math.floor((size - 2) / 0.05))] ?? null;
}
