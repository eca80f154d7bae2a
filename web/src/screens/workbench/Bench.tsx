import { Box } from "@mantine/core";
import { useViewportSize } from "@mantine/hooks";
import { useQueryClient } from "@tanstack/react-query";
import { useDeferredValue, useMemo, useState } from "react";
import { Panel, PanelGroup, PanelResizeHandle, setNonce } from "react-resizable-panels";
import { Link } from "react-router";
import type { Finding } from "../../api/client";
import type { Levels } from "../../charts/drawing";
import type { Range } from "../../charts/TimePane";
import { TopBar } from "../../frame";
import { useKeys } from "../../keys/useKeys";
import { Trouble, Waiting } from "../../parts/ask";
import { nonce } from "../../parts/nonce";
import { useSettled } from "../../parts/useSettled";
import { spanWords, utc, zoneWords } from "../../parts/words";
import { EntryForm } from "../logbook/EntryForm";
import type { BenchAddress } from "./address";
import { firstRange } from "./ahead";
import { BenchSide } from "./BenchSide";
import { scanWords } from "./Lanes";
import { oddsOf } from "./ScoreStrip";
import { Stack } from "./Stack";
import type { StreamFacts } from "./types";
import { useBeside } from "./useBeside";
import { useFindingSteps } from "./useFindingSteps";
import { useTrial } from "./useTrial";
import { useView } from "./useView";
import workbenchCss from "./workbench.module.css";

setNonce(nonce);

const NO_FINDINGS: Finding[] = [];
const LEAST_SPAN = 10_000;
/** Widths of what stands beside the charts, in pixels; panels count in per cent of the window. */
const SIDE = { least: 290, usual: 350, most: 560 };
const USUAL_SHARE = 0.29;
const MOST_SIDE = 55;

interface BenchProps {
  stream: StreamFacts;
  scanId: number | null;
  address: BenchAddress;
  change: (changes: Partial<BenchAddress>, isStep?: boolean) => void;
}

/** A span within the stream's own, no shorter than a few samples. */
function within([a, b]: Range, whole: Range, step: number): Range {
  const least = Math.max(LEAST_SPAN, step * 8);
  const span = Math.min(Math.max(b - a, least), whole[1] - whole[0] || least);
  const start = Math.min(Math.max((a + b - span) / 2, whole[0]), Math.max(whole[1] - span, whole[0]));
  return [Math.round(start), Math.round(start + span)];
}

/** The span in sight: local while a gesture goes on, in the address when it has ended. */
function useRange(stream: StreamFacts, address: BenchAddress, change: BenchProps["change"]) {
  const whole = useMemo<Range>(() => [stream.first ?? 0, stream.last ?? 1], [stream.first, stream.last]);
  const step = stream.step_s * 1000;
  const [first] = firstRange(stream);
  const [from, to] = address.range ?? [first, whole[1]];
  const settled = useMemo<Range>(() => [from, to], [from, to]);
  const [range, moveTo] = useSettled<Range>(settled, (value) => change({ range: value }, true));
  const fitted = (wanted: Range) => within(wanted, whole, step);
  return { whole, settled, range, fitted, setRange: (wanted: Range) => moveTo(fitted(wanted)), first };
}

export function Bench({ stream, scanId, address, change }: BenchProps) {
  const { id, zone } = stream;
  const { whole, settled, range, fitted, setRange, first } = useRange(stream, address, change);
  const [from, to] = range;
  const span = to - from;
  // Moving the level is about the plan and its figures: they are shown with it.
  const [level, setLevel, isLevelMoving] = useSettled<number | null>(address.level, (value) =>
    change({ level: value, side: "plan" }),
  );
  const chosen = address.finding;
  const side = isLevelMoving ? "plan" : (address.side ?? (chosen === null ? "plan" : "findings"));
  const { overview, view, shown, curve, scan, isDrawn, freshness } = useView(scanId, id, settled, {
    hasParts: address.hasParts,
    by: address.look.by,
  });
  // The chart first: what stands beside it is made once it is there.
  const hasSide = useDeferredValue(isDrawn, false);
  const own = scan.data;
  const beside = useBeside(id, scanId, own, address.beside, isDrawn);
  // A span to write an entry over, drawn on a chart with Shift down or taken from what is in sight.
  const [noted, setNoted] = useState<Range | null>(null);
  const client = useQueryClient();
  const trial = useTrial((done) => {
    void client.invalidateQueries({ queryKey: ["scans", id] });
    if (done.mode === "replay") return;
    // What was on show stays beside it: before and after.
    const before = [...(scanId === null ? [] : [scanId]), ...address.beside].filter((s) => s !== done.id);
    change({ scan: done.id, level: null, finding: null, side: null, beside: [...new Set(before)] });
  });
  const all = overview.data?.findings ?? null;
  const findings = all ?? NO_FINDINGS;
  const drawn = shown?.findings ?? NO_FINDINGS;
  const { announced, take, step, pick } = useFindingSteps(all, drawn, chosen, range, (finding) => {
    const isInSight = finding.start >= from && finding.end <= to;
    const middle = (finding.start + finding.end) / 2;
    const wide = Math.max(span, 1.5 * (finding.end - finding.start));
    const there = isInSight ? {} : { range: fitted([middle - wide / 2, middle + wide / 2]) };
    // Where it is in sight the view stays, also one that is just moving.
    change({ finding: finding.id, side: "findings", ...there }, true);
  });
  const { width } = useViewportSize();
  const room = width || window.innerWidth;
  const share = (pixels: number) => Math.min(MOST_SIDE, (100 * pixels) / room);
  const usual = Math.min(SIDE.most, Math.max(SIDE.usual, USUAL_SHARE * room));
  const pan = (share: number) => setRange([from + share * span, to + share * span]);
  useKeys({
    // With Shift by all that is in sight: day by day, or week by week.
    ArrowLeft: (e) => pan(e.shiftKey ? -1 : -0.25),
    ArrowRight: (e) => pan(e.shiftKey ? 1 : 0.25),
    "+": () => setRange([from + span / 6, to - span / 6]),
    "-": () => setRange([from - span / 4, to + span / 4]),
    "0": () => setRange(whole),
    w: () => setNoted(range),
    n: () => step(1),
    p: () => step(-1),
  });
  const levels: Levels = useMemo(() => {
    const flag = (own?.plan_data.flag as { side?: string } | undefined)?.side ?? "both";
    if (level === null) return { above: shown?.level_above ?? null, below: shown?.level_below ?? null };
    return { above: flag === "below" ? null : level, below: flag === "above" ? null : level };
  }, [level, own, shown]);
  return (
    <PanelGroup direction="horizontal" autoSaveId="watchtide-bench">
      <TopBar>
        <Link to="/" className="soft">
          Tide table
        </Link>
        <span className="soft">›</span>
        <span className="soft">{stream.metric}</span>
        <span className="soft">›</span>
        <h1>{stream.title}</h1>
        <span className="filler" />
        <span className="figure small" title={`${utc(from)} to ${utc(to)}`}>
          {spanWords(from, to, zone)} · {zoneWords(to, zone)}
        </span>
      </TopBar>
      <Panel minSize={100 - MOST_SIDE} order={1}>
        <Box
          component="section"
          h="100%"
          pos="relative"
          p="8px 0 12px 14px"
          className="bench-charts scrolls"
          aria-label="Charts"
        >
          {view.isError && !shown && <Trouble error={view.error} retry={() => view.refetch()} />}
          {noted && (
            <EntryForm
              key={noted.join()}
              scope={stream.key}
              zone={zone}
              from={noted[0]}
              to={noted[1]}
              onForget={() => setNoted(null)}
              onDone={() => setNoted(null)}
            />
          )}
          {shown && (
            <Stack
              stream={stream}
              view={shown}
              freshness={freshness}
              overview={overview.data}
              whole={whole}
              range={range}
              setRange={setRange}
              onSpan={setNoted}
              levels={levels}
              level={level}
              setLevel={setLevel}
              chosen={chosen}
              choose={take}
              pick={pick}
              reset={() => setRange([first, whole[1]])}
              scanId={scanId}
              lanes={beside.lanes}
              source={own ? `Watch Tide, ${scanWords(own)}, scan ${own.id}` : "Watch Tide"}
              odds={(score) => oddsOf(curve.data, score)}
              plan={own?.plan_text ?? ""}
              address={address}
              change={change}
            />
          )}
          {view.isPending && <Waiting what="Drawing the stream" />}
        </Box>
      </Panel>
      <PanelResizeHandle className={workbenchCss.benchHandle} aria-label="Width of the plan and findings" />
      <Panel
        defaultSize={share(usual)}
        minSize={share(SIDE.least)}
        maxSize={MOST_SIDE}
        order={2}
        collapsible
        collapsedSize={0}
      >
        {hasSide && (
          <BenchSide
            {...{ stream, scanId, level, setLevel, side, findings, chosen, beside, trial, curve, announced }}
            scan={own}
            isReading={scanId !== null && scan.isPending}
            view={shown}
            length={whole[1] - whole[0]}
            choose={take}
            change={change}
          />
        )}
      </Panel>
    </PanelGroup>
  );
}
