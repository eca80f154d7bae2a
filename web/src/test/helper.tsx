import { MantineProvider } from "@mantine/core";
import { ModalsProvider } from "@mantine/modals";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { fireEvent, render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import type { ReactNode } from "react";
import { MemoryRouter } from "react-router";
import type { Curve, Finding, Preview, Schema } from "../api/client";
import { theme } from "../theme/theme";

/** Render with everything a screen stands in, at an address. */
export function show(children: ReactNode, at = "/") {
  const client = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  return render(
    <MantineProvider theme={theme} env="test">
      <QueryClientProvider client={client}>
        <ModalsProvider>
          <MemoryRouter initialEntries={[at]}>{children}</MemoryRouter>
        </ModalsProvider>
      </QueryClientProvider>
    </MantineProvider>,
  );
}

export function aFinding(changes: Partial<Finding> = {}): Finding {
  return {
    id: 1,
    stream: 7,
    metric: "gate_taps",
    title: "Northquay · adult",
    unit: "taps",
    zone: "Europe/Dublin",
    scan: 3,
    start: Date.UTC(2026, 7, 22, 8, 15),
    end: Date.UTC(2026, 7, 22, 13, 30),
    kind: "outlier",
    direction: "above",
    score: 11.8,
    peak: Date.UTC(2026, 7, 22, 10, 30),
    peak_value: 506,
    expected: 274,
    points: 21,
    size: null,
    confidence: null,
    raised: null,
    taken_by: "",
    quiet: false,
    verdict: null,
    entry: null,
    ...changes,
  };
}

/** A curve whose counts tell their level: at index i, findings are 1000 - i. */
export function aCurve(): Schema["StreamCurve"] {
  const levels = Array.from({ length: 201 }, (_, i) => Math.round((2 + i * 0.05) * 100) / 100);
  const each = (value: (i: number) => number | null) => levels.map((_, i) => value(i));
  const curve: Curve = {
    levels,
    findings: each((i) => 1000 - i),
    tp_findings: each((i) => 300 - i),
    fp_findings: each((i) => 200 - i / 2),
    unjudged: each(() => 5),
    unsure: each(() => 0),
    tp_labels: each(() => 8),
    fn_labels: each(() => 2),
    precision: each((i) => (i === 200 ? null : 0.5 + i / 1000)),
    precision_low: each(() => 0.4),
    precision_high: each(() => 0.7),
    recall: each(() => 0.8),
    recall_low: each(() => 0.5),
    recall_high: each(() => 0.95),
    f1: each(() => 0.6),
    delay_s: each(() => 1800),
    false_per_week: each((i) => 20 - i / 10),
    flagged_share: each(() => 0.01),
    point_tp: each(() => 1),
    point_fp: each(() => 1),
    point_fn: each(() => 1),
    point_tn: each(() => 1),
    recall_of: "incidents",
    stream_weeks: 10,
  };
  return {
    curve,
    logbook_version: 4,
    promised: { odds: each((i) => 100 + i), per_week: each((i) => 5 - i / 100) },
    in_force: {
      above: 5.1,
      below: 4.2,
      findings: 12,
      events: {
        tp_findings: 9,
        fp_findings: 3,
        tp_labels: 8,
        fn_labels: 2,
        precision: 0.75,
        precision_ci: [0.47, 0.91],
        recall: 0.8,
        recall_ci: [0.49, 0.94],
      },
      delay: { median_s: 900 },
      false_per_week: { per_stream: 0.3 },
      excluded: { unjudged: 2 },
    },
  };
}

export function aPreview(changes: Partial<Preview> = {}): Preview {
  return {
    upload: 1,
    name: "taps.csv",
    size: 1200,
    rows: 102,
    rows_fit: 100,
    rows_aside: 2,
    rows_dropped: 0,
    is_whole: true,
    about_rows: 102,
    shape: {
      kind: "delimited",
      is_gzipped: false,
      encoding: "utf-8",
      delimiter: ",",
      quote: '"',
      decimal: ".",
      has_header: true,
      pattern: null,
      reasons: {},
    },
    zone: "Europe/Dublin",
    duplicates: "mean",
    unit: "",
    bad_side: "both",
    kept: null,
    samples: 100,
    cadence: "15m",
    cadence_share: 1,
    first: Date.UTC(2026, 7, 1),
    last: Date.UTC(2026, 7, 2),
    metric: "taps",
    columns: [
      {
        name: "stamp",
        role: "time",
        reason: "iso local",
        missing: 0,
        distinct: 2,
        picture: { kind: "times", bars: [1, 2], labels: [] },
      },
      {
        name: "place",
        role: "series",
        reason: "text with 2 different values",
        missing: 0,
        distinct: 2,
        picture: { kind: "texts", bars: [60, 40], labels: ["Northquay", "Gullhaven"] },
      },
      {
        name: "taps",
        role: "value",
        reason: "numbers",
        missing: 0.02,
        distinct: 2,
        picture: { kind: "numbers", bars: [3, 4, 1], labels: ["0", "532"] },
      },
    ],
    sample: [
      { line: 2, cells: ["2026-08-01 00:00", "Northquay", "4"], broken_column: null },
      { line: 9, cells: ["2026-08-01 00:15", "Northquay", "closed"], broken_column: "taps" },
      { line: 10, cells: ["2026-08-01 00:30", "Northquay", ""], broken_column: null },
    ],
    random: [{ line: 77, cells: ["2026-08-01 18:45", "Gullhaven", "12"], broken_column: null }],
    problems: [
      {
        kind: "number",
        count: 2,
        first_line: 9,
        column: "taps",
        message: "'closed' is not a number",
        remedy: "take it as missing, or correct the row",
        sets_aside: true,
      },
      {
        kind: "duplicates",
        count: 1,
        first_line: null,
        column: "",
        message: "stamps stand twice in the same stream",
        remedy: "they are combined in their bin",
        sets_aside: false,
      },
    ],
    streams: 2,
    streams_known: 0,
    becomes: [{ title: "Northquay", metric: "taps", samples: 50, line: [1, 2, null, 4] }],
    waves: [],
    wave_step_s: null,
    is_stored: false,
    ...changes,
  };
}

/** Write a day and a time into a field for a moment. */
export async function writeMoment(label: string, day: string, time: string) {
  const field = screen.getByLabelText(`${label}, day`);
  await userEvent.clear(field);
  await userEvent.type(field, day);
  fireEvent.blur(field);
  fireEvent.change(screen.getByLabelText(`${label}, time`), { target: { value: time } });
}
