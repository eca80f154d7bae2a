import { Box, Table } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, get, type Schema } from "../../api/client";
import { Trouble, Waiting } from "../../parts/ask";
import { SelectField } from "../../parts/Field";
import { Mark, VERDICT_WORDS } from "../../parts/marks";
import { SideBySide } from "../../parts/SideBySide";
import { Taking } from "../../parts/Taking";
import { dayTime, duration, figure } from "../../parts/words";

/** What stands behind one finding; follows whichever is selected. */
export function Explain({ finding, zone }: { finding: number; zone: string }) {
  const [by, setBy] = useState<string | null>(null);
  const explained = useQuery({
    queryKey: ["explain", finding, by],
    queryFn: () =>
      get(
        api.GET("/api/v1/findings/{id}/explain", {
          params: { path: { id: finding }, query: by ? { by } : {} },
        }),
      ),
  });
  if (explained.isPending) return <Waiting what="Looking around it" />;
  if (explained.isError) return <Trouble error={explained.error} retry={() => explained.refetch()} />;
  const { contributors, beside, alike, days } = explained.data;
  return (
    <Box m="2px 0 8px" className="explain">
      <Box component="p" m="0 0 6px" className="small">
        {explained.data.finding.taken_by === "" && "Not assigned: "}
        <Taking finding={explained.data.finding} />
        {days.length > 0 && (
          <>
            {" "}
            The calendars know {days.length > 1 ? "these days" : "this day"}:{" "}
            {days.map((d, i) => (
              <span key={`${d.calendar}${d.name}${d.start}`}>
                {i > 0 && ", "}
                <strong>{d.name}</strong> ({d.calendar}, {dayTime(d.start, zone)}
                {d.is_all_day ? ", all day" : ` for ${duration((d.end - d.start) / 1000)}`})
              </span>
            ))}
            .
          </>
        )}
      </Box>
      <SideBySide of="repeat(auto-fit, minmax(min(100%, 220px), 1fr))" gap="8px 18px">
        <section aria-label="Contributors">
          <h3>Contributors</h3>
          <Contributors parts={contributors} setBy={setBy} />
        </section>
        <section aria-label="What else moved">
          <h3>What else moved</h3>
          {beside.length === 0 && (
            <p className="soft small">No other stream has a finding within 6 h of this one.</p>
          )}
          <ul className="plain">
            {beside.map((b) => (
              <li key={b.finding.id}>
                <Mark kind={b.finding.kind} direction={b.finding.direction} />{" "}
                <Link className="act" to={findingLink(b.finding)}>
                  {b.finding.metric} · {b.finding.title}
                </Link>{" "}
                <span className="small">{lagWords(b)}</span>
              </li>
            ))}
          </ul>
        </section>
        <section aria-label="Similar findings">
          <h3>Similar findings</h3>
          {alike.length === 0 && (
            <p className="soft small">No earlier finding of this stream has its shape.</p>
          )}
          <ul className="plain">
            {alike.map((a) => (
              <li key={a.finding.id}>
                <Link className="act" to={findingLink(a.finding)}>
                  {dayTime(a.finding.start, zone)}
                </Link>{" "}
                <span className="small">
                  {figure(a.finding.score, 1)} σ, likeness {figure(a.likeness, 2)},{" "}
                  {a.finding.verdict ? VERDICT_WORDS[a.finding.verdict] : "open"}
                </span>
              </li>
            ))}
          </ul>
        </section>
      </SideBySide>
    </Box>
  );
}

/** The workbench at a finding, with room around it. */
export function findingLink(f: Schema["Finding"]): string {
  const margin = Math.max(2 * (f.end - f.start), 36 * 3_600_000);
  return `/workbench/${f.stream}?scan=${f.scan}&finding=${f.id}&from=${Math.round(f.start - margin)}&to=${Math.round(f.end + margin)}&explain=1`;
}

export function lagWords(b: Schema["Beside"]): string {
  const when =
    b.when === "with"
      ? "with it"
      : `${duration(Math.abs(b.lag_s))} ${b.when === "before" ? "before it" : "after it"}`;
  const size = `${figure(b.finding.score, 1)} σ`;
  const goes =
    b.goes_with === null
      ? ""
      : `, scores go together ${figure(b.goes_with, 2)}${b.goes_lag_s ? ` at ${b.goes_lag_s < 0 ? "−" : "+"}${duration(Math.abs(b.goes_lag_s))}` : ""}`;
  return `${b.relation ? `${b.relation}, ` : ""}${when}, ${size}${goes}`;
}

function Contributors({
  parts,
  setBy,
}: {
  parts: Schema["Contributors"];
  setBy: (attribute: string) => void;
}) {
  if (!parts.rows.length) return <p className="soft small">{parts.why}</p>;
  const most = Math.max(...parts.rows.map((r) => Math.abs(r.push)), Math.abs(parts.unaccounted ?? 0), 1e-12);
  const rows = [
    ...parts.rows,
    ...(parts.of.startsWith("all of")
      ? []
      : [{ name: "unaccounted", push: parts.unaccounted ?? 0, share: null, missing: 0 }]),
  ];
  return (
    <>
      <p className="small tight">
        {parts.of}: expected <span className="figure">{figure(parts.expected)}</span>, seen{" "}
        <span className="figure">{figure(parts.observed)}</span> {(parts.unit ?? "").split("/")[0]?.trim()}{" "}
        over the finding. By{" "}
        <SelectField
          className="word"
          aria-label="By which attribute"
          value={parts.attribute ?? ""}
          onChange={(e) => setBy(e.target.value)}
        >
          {parts.attributes.map((a) => (
            <option key={a} value={a}>
              {a}
            </option>
          ))}
        </SelectField>
      </p>
      <Table unstyled className="pushes pairs">
        <Table.Tbody>
          {rows.map((r) => (
            <Table.Tr key={r.name}>
              <Table.Th scope="row">{r.name}</Table.Th>
              <Table.Td>
                <svg
                  width="84"
                  height="10"
                  viewBox="-60 0 120 10"
                  preserveAspectRatio="none"
                  aria-hidden="true"
                >
                  <path d="M0 0V10" stroke="var(--hair)" />
                  <rect
                    x={r.push < 0 ? (r.push / most) * 58 : 0}
                    y="1.5"
                    width={(Math.abs(r.push) / most) * 58}
                    height="7"
                    fill={r.push < 0 ? "var(--below)" : "var(--above)"}
                  />
                </svg>
              </Table.Td>
              <Table.Td className="figure">
                {r.push > 0 ? "+" : ""}
                {figure(r.push)}
              </Table.Td>
              <Table.Td className="figure soft">
                {r.share === null ? "" : `${figure(r.share * 100, 0)} %`}
              </Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
      {parts.why && <p className="soft small">{parts.why}</p>}
    </>
  );
}
