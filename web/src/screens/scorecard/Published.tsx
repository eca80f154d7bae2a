import { Box, Button, Group } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { api, get, type Schema } from "../../api/client";
import { TopBar } from "../../frame";
import { Trouble, Waiting } from "../../parts/ask";
import { dayTime, plural, ratio } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { CardBody } from "./CardBody";
import type { Figures } from "./figures";
import scorecardCss from "./scorecard.module.css";

/** A scorecard as it was frozen, and what has changed since. */
export default function Published() {
  const id = Number(useParams().published);
  const card = useQuery({
    queryKey: ["published", id],
    queryFn: () => get(api.GET("/api/v1/published/{id}", { params: { path: { id } } })),
    staleTime: Number.POSITIVE_INFINITY,
  });
  const since = useQuery({
    queryKey: ["scorecard", "since", id],
    queryFn: () => get(api.GET("/api/v1/published/{id}/since", { params: { path: { id } } })),
  });
  if (card.isPending) return <Waiting what="Reading the scorecard" />;
  if (card.isError) return <Trouble error={card.error} retry={() => card.refetch()} />;
  const d = card.data;
  const file = (name: string) => `/api/v1/published/${id}/${name}`;
  return (
    <div className={`padded ${scorecardCss.card}`}>
      <TopBar>
        <Link to="/scorecards" className="soft">
          Scorecards
        </Link>
        <span className="soft">›</span>
        <h1>{d.title}</h1>
        <span className="filler" />
        <span className="small soft">
          published by {d.author}, {dayTime(d.created_at, fleetZone())} {fleetZone()}
        </span>
      </TopBar>
      {since.data && <Since since={since.data} then={d.figures as unknown as Figures} scan={d.scan} />}
      <CardBody card={d} scan={d.scan} mode={d.mode} />
      <details className="small">
        <summary>The plan, {`${d.plan} v${d.version}`}</summary>
        <pre>{d.plan_text}</pre>
      </details>
      <Group component="footer" gap={18} pt={8} className={`${scorecardCss.cardFoot} lined small`}>
        <Button onClick={() => print()}>Print</Button>
        {["html", "csv", "json"].map((kind) => (
          <a key={kind} className="act" href={file(`card.${kind}`)} download>
            {kind.toUpperCase()}
          </a>
        ))}
        <a className="act" href={file("card.svg")} download>
          Precision as a picture
        </a>
        <span className="soft">What was counted:</span>
        {["findings.csv", "labels.json", "points.parquet", "plan.yaml"].map((name) => (
          <a key={name} className="act" href={file(name)} download>
            {name}
          </a>
        ))}
        <Box component="span" ml="auto" className="soft figure">
          data {d.data_digest.slice(0, 10)} · logbook {d.logbook_version} · code {d.code_version}
        </Box>
      </Group>
    </div>
  );
}

function Since({ since, then, scan }: { since: Schema["Since"]; then: Figures; scan: number | null }) {
  if (!since.is_stale)
    return (
      <p className="soft small" role="status">
        Nothing that was counted has changed since.
      </p>
    );
  const now = since.figures as unknown as Figures | null;
  const parts = [
    since.entries_new && `${plural(since.entries_new, "entry", "entries")} came to the logbook`,
    since.entries_gone && `${plural(since.entries_gone, "entry", "entries")} went or changed`,
    since.streams_changed && `the samples of ${plural(since.streams_changed, "stream")} are others now`,
  ].filter(Boolean);
  return (
    <Box py={4} my={6} className="noted" role="status">
      <strong>Stale.</strong> Since then {parts.join(", ")}.{" "}
      {now && (
        <>
          Counted today: precision <strong>{ratio(now.events.precision)}</strong> instead of{" "}
          {ratio(then.events.precision)}, recall <strong>{ratio(now.events.recall)}</strong> instead of{" "}
          {ratio(then.events.recall)}.{" "}
        </>
      )}
      {scan !== null && <Link to={`/scorecards/${scan}`}>The scan as it counts today</Link>}
    </Box>
  );
}
