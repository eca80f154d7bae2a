import { Box } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useContext, useRef, useState } from "react";
import { Link, useParams } from "react-router";
import { api, type Incident as Data, get } from "../../api/client";
import { TopBar } from "../../frame";
import { useKeys } from "../../keys/useKeys";
import { Trouble, Waiting } from "../../parts/ask";
import { FindingsList } from "../../parts/FindingsList";
import { PersonName } from "../../parts/person";
import { SideBySide } from "../../parts/SideBySide";
import { VERDICTS, verdictKeys } from "../../parts/Verdicts";
import { dayTime, plural } from "../../parts/words";
import { SmallChart } from "../scorecard/SmallChart";
import { linkTo } from "../tide-table/Strongest";
import { Explain } from "../workbench/Explain";
import { IncidentSide } from "./IncidentSide";
import { sentence } from "./incidentSentence";
import { Lanes } from "./Lanes";
import { Nearby } from "./Nearby";
import { useIncident } from "./useIncident";
import { chanceWords, stateWords } from "./words";

/** Small charts beside the lanes: the strongest of so many streams. */
const CHARTS = 6;

/** One incident, or one that is only proposed: when and where, what it was, and what was done. */
export default function Incident() {
  const params = useParams();
  const pk = params.incident ? Number(params.incident) : null;
  const finding = Number(params.finding);
  const found = useQuery({
    queryKey: ["incidents", pk ?? `p${finding}`],
    queryFn: () =>
      pk === null
        ? get(api.GET("/api/v1/incidents/proposed/{finding}", { params: { path: { finding } } }))
        : get(api.GET("/api/v1/incidents/{id}", { params: { path: { id: pk } } })),
  });
  if (found.isPending) return <Waiting what="Reading the incident" />;
  if (found.isError)
    return (
      <div className="padded">
        <Trouble error={found.error} retry={() => found.refetch()} />
        <Link className="act" to="/incidents">
          All incidents
        </Link>
      </div>
    );
  return <Known key={pk ?? `p${finding}`} incident={found.data} />;
}

function Known({ incident }: { incident: Data }) {
  const me = useContext(PersonName);
  const causeField = useRef<HTMLInputElement>(null);
  const work = useIncident(incident);
  const id = incident.id;
  useKeys({
    ...verdictKeys(work.judge, VERDICTS),
    Escape: work.leave,
    z: () => void work.undo(),
    c: () => causeField.current?.focus(),
  });
  return (
    <SideBySide of="minmax(0, 1fr) 300px" h="100%">
      <TopBar>
        <Link to="/incidents" className="soft">
          Incidents
        </Link>
        <h1>
          {incident.title}
          {id === null && "?"}
        </h1>
        <span className="soft">{stateWords(incident, me)}</span>
      </TopBar>
      <Box component="section" p="12px 18px" className="scrolls">
        <Box component="p" m="0 0 10px">
          {sentence(incident)}
          {incident.by_chance !== null &&
            ` Begun together by chance, in a history as long: ${chanceWords(incident.by_chance)}${incident.by_chance < 1e-4 ? "" : " times"}.`}
        </Box>
        <Lanes incident={incident} move={id === null ? undefined : (f) => void work.move(f, true)} />
        {incident.bare.length > 0 && (
          <p className="soft small">
            Kept, though the standing scans find nothing there any more:{" "}
            {incident.bare
              .map((b) => `${b.metric} ${b.title}, ${dayTime(b.start, incident.zone)}`)
              .join("; ")}
            .
          </p>
        )}
        <Surroundings incident={incident} />
        <Members incident={incident} />
        {incident.nearby.length > 0 && (
          <Nearby incident={incident} put={id === null ? undefined : (f) => void work.move(f, false)} />
        )}
      </Box>
      <IncidentSide incident={incident} work={work} causeField={causeField} />
    </SideBySide>
  );
}

/** The strongest finding of each of a few streams, drawn small. */
function Surroundings({ incident }: { incident: Data }) {
  const strongest = [...incident.members]
    .sort((a, b) => (b.score ?? 0) - (a.score ?? 0))
    .filter((f, i, all) => all.findIndex((g) => g.stream === f.stream) === i)
    .slice(0, CHARTS);
  return (
    <>
      <Box component="h2" mt={18}>
        {strongest.length > 1
          ? `The strongest of ${plural(incident.streams, "stream")}`
          : "In its surroundings"}
      </Box>
      <SideBySide of="repeat(3, minmax(0, 1fr))" gap="12px 22px" mt={6}>
        {strongest.map((f) => (
          <Link key={f.id} to={linkTo(f)} className="lights under">
            <SmallChart scan={f.scan} stream={f.stream} from={f.start} to={f.end} />
            <span className="small">
              <strong>{f.title}</strong>{" "}
              <span className="soft">
                {f.metric}, {f.unit}
              </span>
            </span>
          </Link>
        ))}
      </SideBySide>
    </>
  );
}

/** Its findings as the same list that stands beside a chart. */
function Members({ incident }: { incident: Data }) {
  const [chosen, setChosen] = useState<number | null>(null);
  if (!incident.members.length) return null;
  return (
    <>
      <Box component="h2" mt={18}>
        Its findings
      </Box>
      <FindingsList
        findings={incident.members}
        chosen={chosen}
        choose={(f) => setChosen(f.id === chosen ? null : f.id)}
        badSide={incident.bad_side}
        hasStreams
      >
        {chosen !== null && <Explain finding={chosen} zone={incident.zone} />}
      </FindingsList>
    </>
  );
}
