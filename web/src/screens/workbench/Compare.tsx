import { Box, Button, Group, Table } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { api, get, type Scan, type Schema } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { SelectField } from "../../parts/Field";
import { Whisker } from "../../parts/marks";
import { begun, duration, figure, plural, ratio, spanWords } from "../../parts/words";
import { LETTERS, scanWords } from "./Lanes";
import type { StreamFacts } from "./types";

type Side = {
  findings: number;
  events: {
    precision: number | null;
    precision_ci: [number, number] | null;
    recall: number | null;
    recall_ci: [number, number] | null;
    tp_findings: number;
    fp_findings: number;
    tp_labels: number;
    fn_labels: number;
  };
  delay: { median_s: number | null };
  false_per_week: { per_stream: number | null };
};
type Weighed = { difference: number | null; difference_ci: [number, number] | null; words: string };

/** Up to four scans of this stream on the same labels: figures with intervals, what agrees, what chance could do. */
export function Compare({
  stream,
  scan,
  others,
  pinned,
  onPin,
}: {
  stream: StreamFacts;
  scan: Scan;
  others: Scan[];
  pinned: Scan[];
  onPin: (ids: number[]) => void;
}) {
  const left = others.filter((s) => s.id !== scan.id && pinned.every((p) => p.id !== s.id));
  return (
    <section aria-label="Compare">
      <h2>Compare</h2>
      {pinned.length > 0 && <p className="soft small tight">A is the scan on show.</p>}
      {pinned.map((p, i) => (
        <Against
          key={p.id}
          stream={stream}
          scan={scan}
          other={p}
          letter={LETTERS[i + 1] ?? "?"}
          onDrop={() => onPin(pinned.filter((s) => s.id !== p.id).map((s) => s.id))}
        />
      ))}
      {pinned.length < 3 && left.length > 0 && (
        <label className="small">
          Pin beside it{" "}
          <SelectField
            className="word"
            value=""
            onChange={(e) => onPin([...pinned.map((s) => s.id), Number(e.target.value)])}
          >
            <option value="">another scan of this stream …</option>
            {left.map((s) => (
              <option key={s.id} value={s.id}>
                {scanWords(s)}, {plural(s.findings, "finding")}, no. {s.id}
              </option>
            ))}
          </SelectField>
        </label>
      )}
      {left.length === 0 && pinned.length === 0 && (
        <p className="soft small tight">
          This is the only scan of the stream. Change the plan and run it as a trial to have something to
          compare.
        </p>
      )}
    </section>
  );
}

function Against({
  stream,
  scan,
  other,
  letter,
  onDrop,
}: {
  stream: StreamFacts;
  scan: Scan;
  other: Scan;
  letter: string;
  onDrop: () => void;
}) {
  const told = useQuery({
    queryKey: ["against", scan.id, stream.id, other.id],
    queryFn: () =>
      get(
        api.GET("/api/v1/scans/{id}/streams/{stream}/against/{other}", {
          params: { path: { id: scan.id, stream: stream.id, other: other.id } },
        }),
      ),
  });
  return (
    <Box component="section" pt={6} mt={8} className="ruled" aria-label={`Compared with ${letter}`}>
      <Group align="baseline" gap={8}>
        <strong>{letter}</strong>
        <span className="small">{scanWords(other)}</span>
        <Button ml="auto" onClick={onDrop}>
          Unpin {letter}
        </Button>
      </Group>
      {told.isError && <Trouble error={told.error} retry={() => told.refetch()} />}
      {told.data && <Sides told={told.data} letter={letter} zone={stream.zone} />}
    </Box>
  );
}

function Sides({ told, letter, zone }: { told: Schema["Against"]; letter: string; zone: string }) {
  const sides = [
    ["A", told.one as unknown as Side],
    [letter, told.other as unknown as Side],
  ] as const;
  const rows: [string, "precision" | "recall"][] = [
    ["Precision", "precision"],
    ["Recall", "recall"],
  ];
  return (
    <>
      <Table unstyled className="pairs">
        <Table.Tbody>
          {rows.map(([words, name]) =>
            sides.map(([who, s], i) => (
              <Table.Tr key={name + who}>
                <Table.Th scope="row">{i === 0 ? words : ""}</Table.Th>
                <Table.Td>{who}</Table.Td>
                <Table.Td>
                  <Whisker
                    value={s.events[name]}
                    low={s.events[`${name}_ci`]?.[0] ?? null}
                    high={s.events[`${name}_ci`]?.[1] ?? null}
                    isOpen={i === 1}
                  />
                </Table.Td>
                <Table.Td className="figure">{ratio(s.events[name])}</Table.Td>
              </Table.Tr>
            )),
          )}
        </Table.Tbody>
      </Table>
      <p className="small tight">
        False a week <span className="figure">{figure(sides[0][1].false_per_week.per_stream, 2)}</span> in A,{" "}
        <span className="figure">{figure(sides[1][1].false_per_week.per_stream, 2)}</span> in {letter}; median
        delay <span className="figure">{duration(sides[0][1].delay.median_s)}</span> and{" "}
        <span className="figure">{duration(sides[1][1].delay.median_s)}</span>.
      </p>
      <p className="small tight">
        {plural(told.shared, "finding")} of A {told.shared === 1 ? "is" : "are"} in {letter} too;{" "}
        {figure(told.one_only)} only in A, {figure(told.other_only)} only in {letter}.
      </p>
      {[told.precision, told.recall].map((w) => (
        <p className="soft small tight" key={(w as unknown as Weighed).words}>
          {plain((w as unknown as Weighed).words, letter)}.
        </p>
      ))}
      <p className="soft small tight">
        Over {spanWords(told.span_from, told.span_to, zone)}, which both judged.
      </p>
    </>
  );
}

/** The server says "the one" and "the other"; here they have letters. */
export function plain(words: string, letter: string): string {
  const named = words.replace("the other has", `${letter} has`).replace("the one has", "A has");
  return begun(named);
}
