import { Box, Group, UnstyledButton } from "@mantine/core";
import { type ReactNode, useEffect, useMemo, useRef, useState } from "react";
import type { Finding } from "../api/client";
import { isBad, kindWords, Mark, stateWords, VerdictMark } from "./marks";
import partsCss from "./parts.module.css";
import { SideBySide } from "./SideBySide";
import { WordSelect } from "./WordSelect";
import { dayTime, duration, figure, plural } from "./words";

const ORDERS = [
  ["newest", "newest first"],
  ["oldest", "oldest first"],
  ["size", "largest first"],
] as const;
const STATES = [
  ["all", "every verdict"],
  ["open", "without a verdict"],
  ["judged", "with a verdict"],
  ["quiet", "in planned work"],
] as const;
const SIZES = [
  ["0", "every size"],
  ["5", "5 σ and more"],
  ["8", "8 σ and more"],
  ["12", "12 σ and more"],
] as const;
const KINDS = [
  ["all", "every kind"],
  ["outlier", "outliers"],
  ["shift", "shifts"],
  ["discord", "odd shapes"],
] as const;
/** More say nothing that a filter would not say better. */
const MOST_SHOWN = 200;

interface Filter {
  order: (typeof ORDERS)[number][0];
  state: (typeof STATES)[number][0];
  size: (typeof SIZES)[number][0];
  kind: (typeof KINDS)[number][0];
}

export function ordered(findings: Finding[], { order, state, size, kind }: Filter): Finding[] {
  const fits = (f: Finding) =>
    (kind === "all" || f.kind === kind) &&
    // A shift has its size in the stream's own unit: no count of sigmas leaves it out.
    (f.kind === "shift" || (f.score ?? 0) >= Number(size)) &&
    (state === "all" ||
      (state === "quiet" ? f.quiet : state === "open" ? f.verdict === null && !f.quiet : f.verdict !== null));
  const by = {
    newest: (a: Finding, b: Finding) => b.start - a.start,
    oldest: (a: Finding, b: Finding) => a.start - b.start,
    size: (a: Finding, b: Finding) => (b.score ?? 0) - (a.score ?? 0),
  }[order];
  return findings.filter(fits).sort(by);
}

/** A finding in a sentence: what a screen reader says of its pennant, and what the list shows. */
export function findingLabel(f: Finding): string {
  const size = f.kind === "shift" ? `${figure(f.size)} ${f.unit}` : `${figure(f.score, 1)} sigmas`;
  return `${kindWords(f)}, ${dayTime(f.start, f.zone)}, ${size}, ${stateWords(f)}`;
}

interface Props {
  findings: Finding[];
  chosen: number | null;
  choose: (finding: Finding) => void;
  badSide: string;
  /** Of several streams: each row names its own, with a link there. */
  hasStreams?: boolean;
  /** What stands under the chosen one. */
  children?: ReactNode;
}

/** The findings beside a chart: sorted, narrowed, opened; also their text for a screen reader. */
export function FindingsList({ findings, chosen, choose, badSide, hasStreams, children }: Props) {
  const [filter, setFilter] = useState<Filter>({ order: "newest", state: "all", size: "0", kind: "all" });
  const rows = useMemo(() => ordered(findings, filter), [findings, filter]);
  const shown = rows.slice(0, MOST_SHOWN);
  const here = useRef<HTMLLIElement>(null);
  useEffect(() => {
    if (chosen !== null) here.current?.scrollIntoView({ block: "nearest" });
  }, [chosen]);
  const word = <K extends keyof Filter>(
    name: K,
    label: string,
    choices: readonly (readonly [Filter[K], string])[],
  ) => (
    <WordSelect
      label={label}
      value={filter[name]}
      choices={choices}
      onChange={(value) => setFilter({ ...filter, [name]: value })}
    />
  );
  return (
    <section aria-label="Findings">
      <Box my={4} className="small">
        {word("order", "Order", ORDERS)} · {word("state", "Which verdicts", STATES)} ·{" "}
        {word("size", "Least size", SIZES)} · {word("kind", "Which kind", KINDS)}
      </Box>
      <ol className={`plain ${partsCss.findingsList}`}>
        {shown.map((f) => (
          <Box
            component="li"
            key={f.id}
            ref={f.id === chosen ? here : undefined}
            mx={-16}
            px={16}
            className="ruled"
            data-chosen={f.id === chosen || undefined}
          >
            <UnstyledButton w="100%" py={6} onClick={() => choose(f)} aria-expanded={f.id === chosen}>
              <SideBySide component="span" of="16px 62px 1fr" gap={6} align="baseline">
                <Mark kind={f.kind} direction={f.direction} isBad={isBad(f, badSide)} />
                <strong className="figure">
                  {f.kind === "shift" ? figure(f.size) : figure(f.score, 1)}
                  {f.kind === "shift" ? "" : " σ"}
                </strong>
                <SideBySide
                  component="span"
                  of={hasStreams ? "repeat(auto-fit, minmax(180px, 1fr))" : "1fr"}
                  gap="0 12px"
                  align="baseline"
                >
                  {hasStreams && (
                    <>
                      <strong>{f.title}</strong> <span className="soft">{f.metric}</span>
                    </>
                  )}
                  <span>
                    {dayTime(f.start, f.zone)}
                    {f.kind === "shift" ? "" : `, ${duration((f.end - f.start) / 1000)}`}
                  </span>
                  <Group component="span" gap={5} className="soft small">
                    {f.verdict && <VerdictMark verdict={f.verdict} />}
                    {stateWords(f)}
                    {f.taken_by && ` · assigned to ${f.taken_by}`}
                  </Group>
                </SideBySide>
              </SideBySide>
            </UnstyledButton>
            {f.id === chosen && children}
          </Box>
        ))}
      </ol>
      {rows.length === 0 && (
        <p className="soft small">
          {findings.length ? "No finding fits these words." : "This scan found nothing on this stream."}
        </p>
      )}
      {rows.length > shown.length && (
        <p className="soft small">
          and {plural(rows.length - shown.length, "more", "more")}; narrow them by the words above
        </p>
      )}
    </section>
  );
}
