import { Button, Table } from "@mantine/core";
import type { Choices, Preview } from "../../api/client";
import { pathOf } from "../../charts/path";
import { SideBySide } from "../../parts/SideBySide";
import { figure, plural } from "../../parts/words";

// What the count of a kind of trouble counts, where it is not rows.
const COUNTED: Record<string, string> = {
  gap: "stream",
  gaps: "gap",
  silence: "stream",
  cadence: "stream",
  duplicates: "sample",
};
const WORD = /^'(.*)' is not a number/;

/** What is wrong, how often, where first, and what would help. */
export function Problems({
  preview,
  choices,
  onChange,
}: {
  preview: Preview;
  choices: Choices;
  onChange: (c: Choices) => void;
}) {
  const words = choices.missing_words ?? [];
  return (
    <section aria-label="What is wrong">
      <h2>What is wrong</h2>
      {preview.problems.length === 0 && <p className="soft">Nothing: every row fits.</p>}
      <Table className="rows">
        <Table.Tbody>
          {preview.problems.map((p) => {
            const word = WORD.exec(p.message)?.[1];
            return (
              <Table.Tr key={`${p.kind}${p.column}`}>
                <Table.Td className="figure">{plural(p.count, COUNTED[p.kind] ?? "row")}</Table.Td>
                <Table.Td>
                  {p.column && <strong>{p.column}: </strong>}
                  {p.message}
                  {p.first_line ? <span className="soft"> (first in line {p.first_line})</span> : null}
                  {p.sets_aside && <div className="soft small">{p.remedy}</div>}
                </Table.Td>
                <Table.Td>
                  {word !== undefined && !words.includes(word) ? (
                    <Button onClick={() => onChange({ missing_words: [...words, word] })}>
                      Take “{word}” as missing
                    </Button>
                  ) : /^'\d{1,2}[./-]\d{1,2}[./-]\d/.test(p.message) ? (
                    <>
                      <Button onClick={() => onChange({ time_form: "day first" })}>Read day first</Button>{" "}
                      <Button onClick={() => onChange({ time_form: "month first" })}>month first</Button>
                    </>
                  ) : (
                    <span className="soft">{p.sets_aside ? "set aside" : "fine"}</span>
                  )}
                </Table.Td>
              </Table.Tr>
            );
          })}
        </Table.Tbody>
      </Table>
      {words.length > 0 && (
        <p className="small">
          Taken as missing: {words.join(", ")}{" "}
          <Button onClick={() => onChange({ missing_words: [] })}>Put back</Button>
        </p>
      )}
    </section>
  );
}

/** The streams the file will become. */
export function Becomes({ preview }: { preview: Preview }) {
  return (
    <section aria-label="What it will become">
      <h2>What it will become</h2>
      {preview.becomes.map((b) => (
        <SideBySide key={`${b.metric} ${b.title}`} of="150px 1fr 60px" gap={10} py={2} align="center">
          <span>
            {b.title}
            {b.title !== b.metric && preview.becomes.some((x) => x.metric !== b.metric) ? (
              <span className="soft small"> {b.metric}</span>
            ) : null}
          </span>
          <Thumb line={b.line} />
          <span className="figure small right" title="samples">
            {figure(b.samples)}
          </span>
        </SideBySide>
      ))}
      {preview.streams > preview.becomes.length && (
        <p className="soft small">and {figure(preview.streams - preview.becomes.length)} more</p>
      )}
    </section>
  );
}

function Thumb({ line }: { line: (number | null)[] }) {
  const seen = line.filter((v): v is number => v !== null);
  const low = Math.min(...seen);
  const high = Math.max(...seen);
  const d = pathOf(
    line,
    (i) => (i / line.length) * 200,
    (v) => 20 - ((v - low) / (high - low || 1)) * 18,
  );
  return (
    <svg viewBox="0 0 200 22" preserveAspectRatio="none" width="100%" height="22" aria-hidden="true">
      <path d={d} fill="none" stroke="var(--line)" vectorEffect="non-scaling-stroke" />
    </svg>
  );
}
