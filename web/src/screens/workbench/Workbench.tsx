import { Tabs } from "@mantine/core";
import { keepPreviousData, useQueries, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useMemo, useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { api, type Finding, get, list } from "../../api/client";
import type { Levels } from "../../charts/drawing";
import type { Range } from "../../charts/TimePane";
import { TopBar } from "../../frame";
import { useKeys } from "../../keys/useKeys";
import { Trouble, Waiting } from "../../parts/ask";
import { FindingsList, findingLabel } from "../../parts/FindingsList";
import { useSettled } from "../../parts/useSettled";
import { begun, figure, spanWords, utc, zoneName } from "../../parts/words";
import { EntryForm } from "../logbook/EntryForm";
import { ChosenFinding } from "./ChosenFinding";
import { Compare } from "./Compare";
import { Examination } from "./Examination";
import { LETTERS, scanWords } from "./Lanes";
import { PlanPanel } from "./PlanPanel";
import { Replays } from "./Replays";
import { oddsOf, promiseWords, ScoreStrip } from "./ScoreStrip";
import { Stack } from "./Stack";
import type { Ahead, StreamFacts } from "./types";
import { useTrial } from "./useTrial";
import "./workbench.css";

const NO_FINDINGS: Finding[] = [];
const WEEK = 7 * 86_400_000;
const LEAST_SPAN = 10_000;
/** What is shown first: three weeks, and more where samples are further apart. */
const FIRST_SAMPLES = 200;

/** A number from the address, or null. */
function numberOf(params: URLSearchParams, name: string): number | null {
  const text = params.get(name);
  const value = text ? Number(text) : Number.NaN;
  return Number.isFinite(value) ? value : null;
}

/** What is forecast, as the address has it. */
function aheadOf(params: URLSearchParams): Ahead | null {
  const days = params.get("ahead");
  if (!days) return null;
  const [side, limit] = (params.get("limit") ?? "none").split(" ");
  return {
    days,
    interval: params.get("sure") ?? "0.9",
    skip: numberOf(params, "skip") ?? 0,
    side: side === "above" || side === "below" ? side : "none",
    limit: limit ? Number(limit) : null,
  };
}

const curveQuery = (scanId: number | null, stream: number) => ({
  queryKey: ["curve", scanId, stream],
  enabled: scanId !== null,
  queryFn: () =>
    get(
      api.GET("/api/v1/scans/{id}/streams/{stream}/curve", {
        params: { path: { id: scanId ?? 0, stream } },
      }),
    ),
});

export default function Workbench() {
  const id = Number(useParams().stream);
  const [params, setParams] = useSearchParams();
  const stream = useQuery({
    queryKey: ["stream", id],
    queryFn: () => get(api.GET("/api/v1/streams/{id}", { params: { path: { id } } })),
  });
  useEffect(() => sessionStorage.setItem("last-stream", String(id)), [id]);
  const scanId = numberOf(params, "scan") ?? stream.data?.standing_scan ?? null;
  const change = (values: Record<string, string | number | null>, isStep = false) =>
    setParams(
      (old) => {
        const next = new URLSearchParams(old);
        for (const [name, value] of Object.entries(values)) {
          if (value === null) next.delete(name);
          else next.set(name, String(value));
        }
        return next;
      },
      // Where one looks is a step that Back takes back; how it is looked at is none.
      { replace: !isStep },
    );
  if (stream.isPending) return <Waiting what="Opening the stream" />;
  if (stream.isError) return <Trouble error={stream.error} retry={() => stream.refetch()} />;
  return <Bench key={id} stream={stream.data} scanId={scanId} params={params} change={change} />;
}

function firstSpan(stepSeconds: number): number {
  return Math.max(3 * WEEK, FIRST_SAMPLES * stepSeconds * 1000);
}

interface BenchProps {
  stream: StreamFacts;
  scanId: number | null;
  params: URLSearchParams;
  change: (values: Record<string, string | number | null>, isStep?: boolean) => void;
}

function Bench({ stream, scanId, params, change }: BenchProps) {
  const { id, zone } = stream;
  const whole: Range = [stream.first ?? 0, stream.last ?? 1];
  const first = Math.max(whole[0], whole[1] - firstSpan(stream.step_s));
  const settledFrom = numberOf(params, "from") ?? first;
  const settledTo = numberOf(params, "to") ?? whole[1];
  const settled = useMemo<Range>(() => [settledFrom, settledTo], [settledFrom, settledTo]);
  const [range, moveTo] = useSettled<Range>(settled, ([a, b]) => change({ from: a, to: b }, true));
  const [from, to] = range;
  // Moving the level is about the plan and its figures: they are shown with it.
  const [level, setLevel, isLevelMoving] = useSettled<number | null>(numberOf(params, "level"), (value) =>
    change({ level: value, side: "plan" }),
  );
  const chosen = numberOf(params, "finding");
  const side = isLevelMoving ? "plan" : (params.get("side") ?? (chosen === null ? "plan" : "findings"));
  const hasParts = params.get("parts") === "1";

  const query = (span: Range | null, points: number) => ({
    queryKey: ["window", scanId, id, span?.[0] ?? null, span?.[1] ?? null, points, hasParts],
    queryFn: ({ signal }: { signal: AbortSignal }) => {
      const ask = { from: span?.[0], to: span?.[1], points };
      return scanId === null
        ? get(api.GET("/api/v1/streams/{id}/samples", { params: { path: { id }, query: ask }, signal }))
        : get(
            api.GET("/api/v1/scans/{id}/streams/{stream}/window", {
              params: { path: { id: scanId, stream: id }, query: { ...ask, components: hasParts } },
              signal,
            }),
          );
    },
  });
  const asked = useMemo<Range>(() => {
    // Half a window more on both sides, on a coarse grid: panning a little needs nothing new, and nothing is fetched
    // before a gesture has ended.
    const [a, b] = settled;
    const span = b - a;
    const grid = span / 2;
    return [Math.floor((a - span / 2) / grid) * grid, Math.ceil((b + span / 2) / grid) * grid];
  }, [settled]);
  const overview = useQuery(query(null, 1500));
  const view = useQuery({ ...query(asked, 6000), placeholderData: keepPreviousData });
  const curve = useQuery(curveQuery(scanId, id));
  const scan = useQuery({
    queryKey: ["scan", scanId],
    enabled: scanId !== null,
    queryFn: () => get(api.GET("/api/v1/scans/{id}", { params: { path: { id: scanId ?? 0 } } })),
  });

  // A span to write an entry over, drawn on a chart with Shift held or taken from what is in sight.
  const [noted, setNoted] = useState<Range | null>(null);
  const client = useQueryClient();
  const scans = useQuery({
    queryKey: ["scans", id],
    queryFn: () => list(api.GET("/api/v1/scans", { params: { query: { stream: id } } })),
  });
  const finished = (scans.data ?? []).filter((s) => s.state === "done");
  const own = scan.data;
  // The newest replay of the plan on show: what it would have said.
  const replay = finished.find(
    (s) => s.mode === "replay" && own?.mode === "fit" && s.plan === own.plan && s.version === own.version,
  );
  const pins = (params.get("beside") ?? "").split(",").map(Number).filter(Boolean).slice(0, 3);
  const others = (params.get("with") ?? "").split(",").map(Number).filter(Boolean).slice(0, 4);
  const pinned = pins.flatMap((pin) => finished.filter((s) => s.id === pin && s.id !== scanId));
  const beside = [
    ...(replay ? [{ name: "replay", scan: replay }] : []),
    ...pinned.map((s, i) => ({ name: LETTERS[i + 1] ?? "", scan: s })),
  ];
  const windows = useQueries({
    queries: beside.map((b) => ({
      queryKey: ["window", b.scan.id, id, null, null, 100, false],
      queryFn: () =>
        get(
          api.GET("/api/v1/scans/{id}/streams/{stream}/window", {
            params: { path: { id: b.scan.id, stream: id }, query: { points: 100 } },
          }),
        ),
    })),
  });
  const replayed = useQuery(curveQuery(replay?.id ?? null, id));
  const trial = useTrial((done) => {
    void client.invalidateQueries({ queryKey: ["scans", id] });
    if (done.mode === "replay") return;
    // What was on show stays beside it: before and after.
    const before = scanId !== null && scanId !== done.id ? [scanId, ...pins] : pins;
    change({
      scan: done.id,
      level: null,
      finding: null,
      side: null,
      beside:
        [...new Set(before)]
          .filter((s) => s !== done.id)
          .slice(0, 3)
          .join(",") || null,
    });
  });
  const within = ([a, b]: Range): Range => {
    const least = Math.max(LEAST_SPAN, stream.step_s * 8000);
    const span = Math.min(Math.max(b - a, least), whole[1] - whole[0] || least);
    const start = Math.min(Math.max((a + b - span) / 2, whole[0]), Math.max(whole[1] - span, whole[0]));
    return [Math.round(start), Math.round(start + span)];
  };
  const setRange = (wanted: Range) => moveTo(within(wanted));
  const span = to - from;
  const findings = overview.data?.findings ?? NO_FINDINGS;
  const [said, setSaid] = useState("");
  const choose = (finding: Finding) => {
    const isInSight = finding.start >= from && finding.end <= to;
    const middle = (finding.start + finding.end) / 2;
    const wide = Math.max(span, 1.5 * (finding.end - finding.start));
    const [a, b] = within([middle - wide / 2, middle + wide / 2]);
    // Where it is in sight the view stays, also one that is just moving.
    change({ finding: finding.id, side: "findings", ...(isInSight ? {} : { from: a, to: b }) }, true);
    setSaid(`Finding ${findings.indexOf(finding) + 1} of ${findings.length}: ${findingLabel(finding)}`);
  };
  const step = (by: number) => {
    const at = findings.findIndex((f) => f.id === chosen);
    // Until one is chosen, what is in sight comes first: n from the left, p from the right.
    const next =
      at >= 0
        ? findings[at + by]
        : by > 0
          ? findings.find((f) => f.end >= from)
          : findings.findLast((f) => f.start <= to);
    if (next) choose(next);
    else
      setSaid(
        findings.length ? `That was the ${by > 0 ? "last" : "first"} finding.` : "There is no finding.",
      );
  };
  const pick = (moment: number, tolerance: number) => {
    const near = findings.filter((f) => f.start - tolerance <= moment && f.end + tolerance >= moment);
    const [nearest] = near.sort((f, g) => Math.abs(f.start - moment) - Math.abs(g.start - moment));
    if (nearest) choose(nearest);
  };
  const open = findings.find((f) => f.id === chosen);
  useKeys({
    ArrowLeft: () => setRange([from - span / 4, to - span / 4]),
    ArrowRight: () => setRange([from + span / 4, to + span / 4]),
    "+": () => setRange([from + span / 6, to - span / 6]),
    "-": () => setRange([from - span / 4, to + span / 4]),
    "0": () => setRange(whole),
    w: () => setNoted(range),
    n: () => step(1),
    p: () => step(-1),
  });
  const levels: Levels = useMemo(() => {
    const side = (scan.data?.plan_data.flag as { side?: string } | undefined)?.side ?? "both";
    if (level === null)
      return { above: view.data?.level_above ?? null, below: view.data?.level_below ?? null };
    return { above: side === "below" ? null : level, below: side === "above" ? null : level };
  }, [level, scan.data, view.data]);

  return (
    <div className="bench">
      <TopBar>
        <Link to="/" className="soft">
          Tide table
        </Link>
        <span className="soft">›</span>
        <span className="soft">{stream.metric}</span>
        <span className="soft">›</span>
        <h1>{stream.title}</h1>
        <span style={{ flex: 1 }} />
        <span className="figure small" title={`${utc(from)} to ${utc(to)}`}>
          {spanWords(from, to, zone)} · {zone} ({zoneName(to, zone)})
        </span>
      </TopBar>
      <section className="bench-charts" aria-label="Charts">
        {view.isError && <Trouble error={view.error} retry={() => view.refetch()} />}
        {noted && (
          <EntryForm
            key={noted.join()}
            scope={stream.key}
            from={noted[0]}
            to={noted[1]}
            onForget={() => setNoted(null)}
            onDone={() => setNoted(null)}
          />
        )}
        {view.data && (
          <Stack
            stream={stream}
            view={view.data}
            overview={overview.data}
            whole={whole}
            range={range}
            setRange={setRange}
            onSpan={setNoted}
            levels={levels}
            level={level}
            setLevel={setLevel}
            chosen={chosen}
            choose={choose}
            pick={pick}
            reset={() => setRange([first, whole[1]])}
            hasParts={hasParts}
            setParts={(open) => change({ parts: open ? 1 : null })}
            scanId={scanId}
            lanes={beside.map((b, i) => ({ ...b, window: windows[i]?.data }))}
            others={{
              ids: others,
              isCommon: params.get("scale") === "common",
              isOver: params.get("lay") === "over",
            }}
            setOthers={({ ids, isCommon, isOver }) =>
              change({
                with: ids.join(",") || null,
                scale: isCommon && ids.length ? "common" : null,
                lay: isOver && ids.length ? "over" : null,
              })
            }
            source={own ? `Watch Tide, ${scanWords(own)}, scan ${own.id}` : "Watch Tide"}
            odds={(score) => oddsOf(curve.data, score)}
            open={{ fold: params.get("fold") === "1", forms: params.get("forms") === "1" }}
            ahead={aheadOf(params)}
            setAhead={(ahead) =>
              change({
                ahead: ahead?.days ?? null,
                sure: ahead?.interval ?? null,
                skip: ahead?.skip || null,
                limit: ahead && ahead.side !== "none" ? `${ahead.side} ${ahead.limit ?? ""}` : null,
              })
            }
            plan={own?.plan_text ?? ""}
            setOpen={(part, open) => change({ [part]: open ? 1 : null })}
          />
        )}
        {view.isPending && <Waiting what="Drawing the stream" />}
      </section>
      <aside className="bench-side" aria-label="Findings, plan and figures">
        <p className="visually-hidden" role="status">
          {said}
        </p>
        <Tabs value={side} onChange={(value) => change({ side: value })}>
          <Tabs.List>
            <Tabs.Tab value="findings">Findings {figure(findings.length)}</Tabs.Tab>
            <Tabs.Tab value="plan">Plan and figures</Tabs.Tab>
          </Tabs.List>
          <Tabs.Panel value="findings">
            <FindingsList findings={findings} chosen={chosen} choose={choose} badSide={stream.bad_side}>
              {open && side === "findings" && <ChosenFinding key={open.id} finding={open} />}
            </FindingsList>
          </Tabs.Panel>
          <Tabs.Panel value="plan">
            <PlanPanel
              stream={stream}
              scan={scan.data}
              level={level}
              window={view.data}
              trial={trial}
              promise={curve.data ? promiseWords(curve.data, level) : ""}
              onScan={(value) => change({ scan: value, level: null, finding: null, side: null })}
              onLevel={setLevel}
            />
            {curve.data && <ScoreStrip curve={curve.data} level={level} scan={own} replay={replayed.data} />}
            {own && own.mode === "fit" && (
              <Replays
                scan={own}
                stream={id}
                replay={replay}
                findings={windows[0]?.data?.findings?.length}
                length={whole[1] - whole[0]}
                trial={trial}
                onOpen={(value) => change({ scan: value, finding: null })}
              />
            )}
            {own && scanId !== null && own.mode === "fit" && (
              <Examination
                stream={stream}
                scanId={scanId}
                isBusy={trial.isBusy}
                onTry={(plan) => void trial.run(plan, [id])}
              />
            )}
            {own && (
              <Compare
                stream={stream}
                scan={own}
                others={finished}
                pinned={pinned}
                onPin={(ids) => change({ beside: ids.join(",") || null })}
              />
            )}
            {curve.isError && <Trouble error={curve.error} retry={() => curve.refetch()} />}
            {view.data?.notes && view.data.notes.length > 0 && (
              <section>
                <h2>What it rests on</h2>
                <ul className="notes">
                  {view.data.notes.map((note) => (
                    <li key={note}>{begun(note)}.</li>
                  ))}
                  {view.data.level_note && <li>Level: {view.data.level_note}.</li>}
                </ul>
              </section>
            )}
          </Tabs.Panel>
        </Tabs>
      </aside>
    </div>
  );
}
