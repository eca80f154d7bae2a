import { Box, Button, Checkbox, Table, VisuallyHidden } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, list, type Scan } from "../../api/client";
import { TopBar } from "../../frame";
import { Trouble, Waiting } from "../../parts/ask";
import { Hint } from "../../parts/Hint";
import { dayTime, figure, plural, ratio } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { Trend } from "./Trend";

const MOST = 6;

/** All scans, standing ones first; each has a scorecard, and two to six can be set beside one another. */
export default function Scorecards() {
  const navigate = useNavigate();
  const [chosen, setChosen] = useState<number[]>([]);
  const scans = useQuery({ queryKey: ["scans"], queryFn: () => list(api.GET("/api/v1/scans")) });
  const published = useQuery({
    queryKey: ["published"],
    queryFn: () => list(api.GET("/api/v1/published")),
  });
  if (scans.isPending) return <Waiting what="Reading the scans" />;
  if (scans.isError) return <Trouble error={scans.error} retry={() => scans.refetch()} />;
  const rows = [...scans.data].sort((a, b) => Number(b.is_standing) - Number(a.is_standing));
  const plans = new Map(rows.filter((s) => s.mode === "fit").map((s) => [s.plan_id, s.plan]));
  const choose = (id: number) =>
    setChosen(chosen.includes(id) ? chosen.filter((c) => c !== id) : [...chosen, id].slice(-MOST));
  return (
    <div className="padded">
      <TopBar>
        <h1>Scorecards</h1>
        <span className="soft">how each scan fares against the logbook</span>
      </TopBar>
      <Hint name="cards">
        Precision: of the findings, how many were incidents. Recall: of the incidents, how many were found.
        Both with their 95 % interval and count; in-sample figures flatter, those of a replay do not.
      </Hint>
      {rows.length === 0 ? (
        <div className="empty">
          <h2>Nothing has been scanned</h2>
          <p>
            <Link to="/intake">Bring in a file</Link> and let it be scanned.
          </p>
        </div>
      ) : (
        <>
          <p>
            <Button
              disabled={chosen.length < 2}
              onClick={() => navigate(`/scorecards/compare?scans=${chosen.join(",")}`)}
            >
              Compare {chosen.length > 1 ? chosen.length : ""} scans
            </Button>{" "}
            <span className="soft small">
              {chosen.length < 2
                ? `tick two to ${MOST}; the one ticked first is what the others are set against`
                : "on the streams and the span that all of them judged"}
            </span>
          </p>
          <Table className="rows">
            <Table.Thead>
              <Table.Tr>
                <Table.Th>
                  <VisuallyHidden component="span">compare</VisuallyHidden>
                </Table.Th>
                <Table.Th>plan</Table.Th>
                <Table.Th>over</Table.Th>
                <Table.Th className="figure">findings</Table.Th>
                <Table.Th className="figure">precision</Table.Th>
                <Table.Th className="figure">recall</Table.Th>
                <Table.Th>state</Table.Th>
                <Table.Th>by</Table.Th>
                <Table.Th>run, {fleetZone()}</Table.Th>
              </Table.Tr>
            </Table.Thead>
            <Table.Tbody>
              {rows.map((s) => (
                <Row key={s.id} scan={s} isChosen={chosen.includes(s.id)} onChoose={() => choose(s.id)} />
              ))}
            </Table.Tbody>
          </Table>
        </>
      )}
      {published.data && published.data.length > 0 && (
        <Box aria-label="Published" component="section" mt={22}>
          <h2>
            Published <span className="soft small">frozen, with all that was counted</span>
          </h2>
          <Table className="rows">
            <Table.Thead>
              <Table.Tr>
                <Table.Th>title</Table.Th>
                <Table.Th>plan</Table.Th>
                <Table.Th className="figure">streams</Table.Th>
                <Table.Th className="figure">precision</Table.Th>
                <Table.Th className="figure">recall</Table.Th>
                <Table.Th>by</Table.Th>
                <Table.Th>on, {fleetZone()}</Table.Th>
              </Table.Tr>
            </Table.Thead>
            <Table.Tbody>
              {published.data.map((p) => (
                <Table.Tr key={p.id}>
                  <Table.Td>
                    <Link to={`/published/${p.id}`}>
                      <strong>{p.title}</strong>
                    </Link>
                  </Table.Td>
                  <Table.Td>
                    {p.plan}, v{p.version}
                    {p.mode === "replay" ? ", replayed" : ""}
                  </Table.Td>
                  <Table.Td className="figure">{figure(p.streams)}</Table.Td>
                  <Table.Td className="figure">{ratio(p.precision)}</Table.Td>
                  <Table.Td className="figure">{ratio(p.recall)}</Table.Td>
                  <Table.Td className="soft">{p.author}</Table.Td>
                  <Table.Td className="soft">{dayTime(p.created_at, fleetZone())}</Table.Td>
                </Table.Tr>
              ))}
            </Table.Tbody>
          </Table>
        </Box>
      )}
      {[...plans].slice(0, 4).map(([id, name]) => (
        <Trend key={id} plan={id} name={name} />
      ))}
    </div>
  );
}

function Row({ scan: s, isChosen, onChoose }: { scan: Scan; isChosen: boolean; onChoose: () => void }) {
  const name = `${s.plan}, v${s.version}`;
  return (
    <Table.Tr>
      <Table.Td>
        <Checkbox
          size="xs"
          aria-label={`Compare ${name}, scan ${s.id}`}
          checked={isChosen}
          disabled={s.state !== "done"}
          onChange={onChoose}
        />
      </Table.Td>
      <Table.Td>
        {s.state === "done" ? (
          <Link to={`/scorecards/${s.id}`}>
            <strong>{name}</strong>
          </Link>
        ) : (
          name
        )}
      </Table.Td>
      <Table.Td>
        {plural(s.streams, "stream")} <span className="soft">{s.metrics.join(", ")}</span>
      </Table.Td>
      <Table.Td className="figure">{s.state === "done" ? figure(s.findings) : "–"}</Table.Td>
      <Table.Td className="figure">{ratio(s.precision)}</Table.Td>
      <Table.Td className="figure">{ratio(s.recall)}</Table.Td>
      <Table.Td>
        {s.state === "done"
          ? s.mode === "replay"
            ? "replay"
            : s.is_standing
              ? "standing"
              : "trial"
          : s.state}
      </Table.Td>
      <Table.Td className="soft">{s.created_by}</Table.Td>
      <Table.Td className="soft">{dayTime(s.created_at, fleetZone())}</Table.Td>
    </Table.Tr>
  );
}
