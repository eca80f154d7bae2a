import { Box, Button, Table } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, get, type Schema } from "../../api/client";
import { TopBar } from "../../frame";
import { useAddress, withNames } from "../../parts/address";
import { Trouble, Waiting } from "../../parts/ask";
import { counted } from "../../parts/jobs";
import { Whisker } from "../../parts/marks";
import { begun, duration, figure, plural, ratio, spanWords } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { type Events, partOf, wider } from "./figures";
import scorecardCss from "./scorecard.module.css";

type One = Schema["Compared"];

/** Two to six scans on the same streams, span and entries, each against the first. */
export default function Comparison() {
  const [params, setAddress] = useAddress();
  const scans = params.get("scans") ?? "";
  const part = partOf(params);
  const told = useQuery({
    queryKey: ["scorecard", "beside", scans, part],
    queryFn: () =>
      counted(() => get(api.GET("/api/v1/comparison", { params: { query: { scans, ...part } } }))),
  });
  if (told.isPending) return <Waiting what="Counting them against the logbook" />;
  if (told.isError) return <Trouble error={told.error} retry={() => told.refetch()} />;
  const d = told.data;
  const first = d.scans[0];
  // The one that others are set against comes first.
  const lead = (scan: number) => {
    const order = [scan, ...d.scans.map((s) => s.scan).filter((s) => s !== scan)];
    setAddress((old) => withNames(old, { scans: order.join(",") }));
  };
  return (
    <div className={`padded ${scorecardCss.card}`}>
      <TopBar>
        <Link to="/scorecards" className="soft">
          Scorecards
        </Link>
        <span className="soft">›</span>
        <h1>{plural(d.scans.length, "scan")} beside one another</h1>
        <span className="filler" />
        <span className="figure small">
          {spanWords(d.span_from, d.span_to, fleetZone())} · {fleetZone()}
        </span>
      </TopBar>
      <p className="soft small">
        Over the {plural(d.streams, "stream")} and the span that all of them judged, against the same{" "}
        {plural(d.labels, "entry", "entries")}. Differences are to {first && nameOf(first)}, with paired 95 %
        intervals: blocks of time are drawn for both at once, so that a hard week is hard for both.
      </p>
      <Table className="rows">
        <Table.Thead>
          <Table.Tr>
            <Table.Th>scan</Table.Th>
            <Table.Th className="figure">findings</Table.Th>
            <Table.Th>precision</Table.Th>
            <Table.Th>recall</Table.Th>
            <Table.Th className="figure">false a week</Table.Th>
            <Table.Th className="figure">median delay</Table.Th>
            <Table.Th className="figure">found by both</Table.Th>
            <Table.Th />
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {d.scans.map((s, i) => (
            <Row key={s.scan} one={s} isFirst={i === 0} onLead={() => lead(s.scan)} />
          ))}
        </Table.Tbody>
      </Table>
      <h2>What can be said</h2>
      <ul className="said">
        {d.scans.slice(1).map((s) => (
          <li key={s.scan}>
            <strong>{nameOf(s)}</strong>: {begun(s.against?.precision.words ?? "")}; {s.against?.recall.words}
            .
            {Object.values(s.against?.notes ?? {}).length > 0 && (
              <span className="soft small"> {Object.values(s.against?.notes ?? {}).join("; ")}.</span>
            )}
          </li>
        ))}
      </ul>
    </div>
  );
}

function nameOf(s: One): string {
  return `${s.plan} v${s.version}${s.mode === "replay" ? ", replayed" : ""}`;
}

function Row({ one, isFirst, onLead }: { one: One; isFirst: boolean; onLead: () => void }) {
  const e = one.events as unknown as Events;
  const rate = one.false_per_week as { per_stream: number | null };
  const delay = one.delay as { median_s: number | null };
  const p = wider(e.precision_ci, e.precision_ci_clustered);
  const r = wider(e.recall_ci, e.recall_ci_clustered);
  const a = one.against;
  return (
    <Table.Tr>
      <Table.Td>
        <Link to={`/scorecards/${one.scan}`}>
          <strong>{nameOf(one)}</strong>
        </Link>{" "}
        <span className="soft small">scan {one.scan}</span>
      </Table.Td>
      <Table.Td className="figure">{figure(one.findings)}</Table.Td>
      <Table.Td>
        <Whisker value={e.precision} low={p?.[0] ?? null} high={p?.[1] ?? null} />{" "}
        <span className="figure">{ratio(e.precision)}</span> <Difference of={a?.precision} />
      </Table.Td>
      <Table.Td>
        <Whisker value={e.recall} low={r?.[0] ?? null} high={r?.[1] ?? null} />{" "}
        <span className="figure">{ratio(e.recall)}</span> <Difference of={a?.recall} />
      </Table.Td>
      <Table.Td className="figure">{figure(rate.per_stream, 2)}</Table.Td>
      <Table.Td className="figure">{duration(delay.median_s)}</Table.Td>
      <Table.Td className="figure">
        {a ? (
          <span title="found by both; by the first only; by this only">
            {a.found_by_both}{" "}
            <span className="soft small">
              −{a.found_by_one_only} +{a.found_by_other_only}
            </span>
          </span>
        ) : (
          ""
        )}
      </Table.Td>
      <Table.Td>
        {!isFirst && (
          <Button onClick={onLead} aria-label={`Set against ${nameOf(one)}`}>
            Set against
          </Button>
        )}
      </Table.Td>
    </Table.Tr>
  );
}

function Difference({ of }: { of?: Schema["Paired"] }) {
  if (!of || of.difference === null) return null;
  const signed = (v: number | null | undefined) =>
    v === null || v === undefined ? "–" : `${v < 0 ? "−" : "+"}${Math.abs(v).toFixed(2)}`;
  return (
    <Box component="span" display="block" className="soft small figure">
      {signed(of.difference)}
      {of.difference_ci ? ` (${signed(of.difference_ci[0])} to ${signed(of.difference_ci[1])})` : ""}
    </Box>
  );
}
