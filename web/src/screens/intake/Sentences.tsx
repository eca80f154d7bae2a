import { Box, Button } from "@mantine/core";
import { useState } from "react";
import type { Choices, Preview, Schema } from "../../api/client";
import { Field } from "../../parts/Field";
import { WordSelect } from "../../parts/WordSelect";

type Measure = Schema["MeasureRequest"];
type How = Measure["how"];

const MARKS: Record<string, string> = { ",": "commas", ";": "semicolons", "\t": "tabs", "|": "bars" };
const KINDS: Record<string, string> = {
  jsonl: "JSON, one object a line",
  parquet: "Parquet",
  log: "a log, line by line",
};
const HOWS: How[] = ["count", "sum", "mean", "min", "max", "p50", "p90", "p95", "p99", "distinct"];

/** How the file is written, as a sentence whose words can be changed. */
export function Written({ preview, onChange }: { preview: Preview; onChange: (c: Choices) => void }) {
  const s = preview.shape;
  const [pattern, setPattern] = useState(s.pattern ?? "");
  if (s.kind !== "delimited")
    return (
      <Box component="p" my={6}>
        Read as <strong>{KINDS[s.kind]}</strong>
        {s.kind === "log" ? " by the pattern " : "."}
        {s.kind === "log" && (
          <Field
            w="60ch"
            className="figure"
            aria-label="Pattern of a line"
            value={pattern}
            onChange={(e) => setPattern(e.target.value)}
            onBlur={() => pattern !== s.pattern && onChange({ pattern })}
            onKeyDown={(e) => e.key === "Enter" && onChange({ pattern })}
          />
        )}
      </Box>
    );
  const encodings: Record<string, string> = {
    "utf-8": "UTF-8",
    cp1252: "Windows text (cp1252)",
    "utf-16": "UTF-16",
    [s.encoding]: s.encoding === "utf-8" ? "UTF-8" : s.encoding,
  };
  return (
    <Box component="p" my={6}>
      Cells stand between{" "}
      <WordSelect
        label="Delimiter"
        title={s.reasons.delimiter}
        value={s.delimiter}
        choices={Object.entries({ ...MARKS, [s.delimiter]: MARKS[s.delimiter] ?? s.delimiter })}
        onChange={(delimiter) => onChange({ delimiter })}
      />{" "}
      in{" "}
      <WordSelect
        label="Encoding"
        title={s.reasons.encoding}
        value={s.encoding}
        choices={Object.entries(encodings)}
        onChange={(encoding) => onChange({ encoding })}
      />
      ; quotes are{" "}
      <WordSelect
        label="Quote"
        title={s.reasons.quote}
        value={s.quote}
        choices={Object.entries({ '"': "double", "'": "single" })}
        onChange={(quote) => onChange({ quote })}
      />
      , decimals have a{" "}
      <WordSelect
        label="Decimal mark"
        title={s.reasons.decimal}
        value={s.decimal}
        choices={Object.entries({ ".": "point", ",": "comma" })}
        onChange={(decimal) => onChange({ decimal })}
      />
      , and line 1 holds{" "}
      <WordSelect
        label="Header"
        title={s.reasons.header}
        value={s.has_header ? "names" : "rows"}
        choices={Object.entries({ names: "the names", rows: "a row already" })}
        onChange={(v) => onChange({ has_header: v === "names", roles: undefined })}
      />
      .{" "}
      <span className="soft small">
        {s.reasons.encoding?.startsWith("Windows") ? s.reasons.encoding : ""}
      </span>
    </Box>
  );
}

/** Whether rows are samples or events; events are rolled up by measures. */
export function RowsAre(props: { preview: Preview; choices: Choices; onChange: (c: Choices) => void }) {
  const { preview, choices, onChange } = props;
  const rollup = choices.rollup;
  const [every, setEvery] = useState(rollup?.every ?? "5m");
  const set = (measures: Measure[], interval = every) =>
    onChange({ rollup: { every: interval, measures }, roles: choices.roles });
  const measures = rollup?.measures ?? [];
  const fields = preview.columns.map((c) => c.name);
  return (
    <Box component="p" my={6}>
      Each row is{" "}
      <WordSelect
        label="What a row is"
        value={rollup ? "event" : "sample"}
        choices={Object.entries({ sample: "a sample", event: "an event" })}
        onChange={(v) =>
          v === "event" ? set([{ how: "count" }]) : onChange({ rollup: null, roles: choices.roles })
        }
      />
      {rollup && (
        <>
          ; every{" "}
          <Field
            className="word"
            aria-label="Interval"
            value={every}
            onChange={(e) => setEvery(e.target.value)}
            onBlur={() => every !== rollup.every && set(measures, every)}
            onKeyDown={(e) => e.key === "Enter" && set(measures, every)}
          />{" "}
          make{" "}
          {measures.map((m, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: measures have no other name, and may be equal while edited
            <span key={i}>
              {i > 0 && ", "}
              <WordSelect
                label={`Measure ${i + 1}`}
                value={m.how}
                choices={HOWS.map((h) => [h, h === "count" ? "the count" : `the ${h}`])}
                onChange={(how) =>
                  set(
                    measures.map((x, k) =>
                      k === i
                        ? { how: how as How, field: how === "count" ? null : (x.field ?? numbersOf(preview)) }
                        : x,
                    ),
                  )
                }
              />
              {m.how !== "count" && (
                <>
                  {" of "}
                  <WordSelect
                    label={`Column of measure ${i + 1}`}
                    value={m.field ?? ""}
                    choices={fields.map((f) => [f, f])}
                    onChange={(field) => set(measures.map((x, k) => (k === i ? { ...x, field } : x)))}
                  />
                </>
              )}
              {measures.length > 1 && (
                <Button
                  className="small"
                  aria-label={`Leave measure ${i + 1} out`}
                  onClick={() => set(measures.filter((_, k) => k !== i))}
                >
                  ×
                </Button>
              )}
            </span>
          ))}{" "}
          <Button
            className="small"
            onClick={() => set([...measures, { how: "p95", field: numbersOf(preview) }])}
          >
            and another figure
          </Button>
        </>
      )}
      .
    </Box>
  );
}

function numbersOf(preview: Preview): string {
  const found = preview.columns.find((c) => c.picture.kind === "numbers" && c.role !== "time");
  return found?.name ?? preview.columns.find((c) => c.role !== "time")?.name ?? "";
}
