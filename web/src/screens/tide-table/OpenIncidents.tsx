import { Box, Group } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useContext } from "react";
import { Link } from "react-router";
import { api, list } from "../../api/client";
import { Mark } from "../../parts/marks";
import { PersonName } from "../../parts/person";
import { SideBySide } from "../../parts/SideBySide";
import { figure, plural } from "../../parts/words";
import { incidentLink, stateWords, whenWords } from "../incidents/words";
import tideTableCss from "./tide-table.module.css";

/** So many fit side by side. */
const SHOWN = 3;

/** What is open over several streams, on top of the tide table: incidents first, then those only proposed. */
/** Pixels that they take. */
const ROOM = 101;

export function OpenIncidents() {
  const me = useContext(PersonName);
  const incidents = useQuery({
    queryKey: ["incidents", "open"],
    queryFn: () => list(api.GET("/api/v1/incidents", { params: { query: { state: "open" } } })),
  });
  // Room is kept for them: what is below must not move under a hand that drags already.
  if (incidents.isPending) return <Box component="section" mih={ROOM} aria-label="Open incidents" />;
  const rows = incidents.data ?? [];
  if (!rows.length) return null;
  const open = rows.filter((r) => r.id !== null).length;
  return (
    <Box component="section" mih={ROOM} aria-label="Open incidents" className={tideTableCss.openIncidents}>
      <Group component="h2" gap={14} align="baseline">
        {open ? plural(open, "open incident") : "Incidents"}
        <span className="soft small plain">
          {rows.length > open && `${figure(rows.length - open)} proposed from findings that go together`}
        </span>
        <Link to="/incidents" className="act plain">
          {rows.length > SHOWN ? `All ${rows.length}` : "Open the list"}
        </Link>
      </Group>
      <SideBySide
        component="ol"
        of={`repeat(${SHOWN}, minmax(0, 1fr))`}
        gap={28}
        m="4px 0 8px"
        className="plain"
      >
        {rows.slice(0, SHOWN).map((r) => (
          <li key={r.id ?? `p${r.finding}`} data-state={r.state}>
            <Link to={incidentLink(r)}>
              <Mark
                kind={r.kind}
                direction={r.direction}
                isBad={r.bad_side === "both" || r.bad_side === r.direction}
              />
              <strong className="cut">
                {r.title}
                {r.state === "proposed" ? "?" : ""}
              </strong>
              <span className="soft small">{stateWords(r, me)}</span>
              <span className="small">
                {plural(r.streams, "stream")}, up to {figure(r.score, 1)} σ
              </span>
              <span className="small soft">{whenWords(r)}</span>
            </Link>
          </li>
        ))}
      </SideBySide>
    </Box>
  );
}
