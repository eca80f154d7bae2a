import { Table } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useContext } from "react";
import { Link, useSearchParams } from "react-router";
import { api, type IncidentRow, list } from "../../api/client";
import { TopBar } from "../../frame";
import { Trouble, Waiting } from "../../parts/ask";
import { SelectField } from "../../parts/Field";
import { Mark } from "../../parts/marks";
import { PersonName } from "../../parts/person";
import { figure, plural } from "../../parts/words";
import { chanceWords, incidentLink, scopeWords, stateWords, whenWords } from "./words";

type State = "open" | "closed" | "apart";

const STATES: [State, string][] = [
  ["open", "open and proposed"],
  ["closed", "closed"],
  ["apart", "said to be not one thing"],
];

/** All incidents of a state, one a line. */
export default function Incidents() {
  const me = useContext(PersonName);
  const [params, setParams] = useSearchParams();
  const state = (params.get("state") ?? "open") as State;
  const incidents = useQuery({
    queryKey: ["incidents", state],
    queryFn: () => list(api.GET("/api/v1/incidents", { params: { query: { state } } })),
  });
  return (
    <div className="padded">
      <TopBar>
        <h1>Incidents</h1>
        <span className="soft">findings of several streams that belong together</span>
      </TopBar>
      <p className="tight">
        <label>
          Those{" "}
          <SelectField
            className="word"
            value={state}
            onChange={(e) =>
              setParams(e.target.value === "open" ? {} : { state: e.target.value }, { replace: true })
            }
          >
            {STATES.map(([value, words]) => (
              <option key={value} value={value}>
                {words}
              </option>
            ))}
          </SelectField>
        </label>{" "}
        <span className="soft small">
          {incidents.data && plural(incidents.data.length, "incident")}. Proposed are open findings of streams
          that share an attribute and begin within an hour of one another, or that feed one another; the least
          likely by chance first, those that chance would bring about too left out.
        </span>
      </p>
      {incidents.isPending && <Waiting what="Reading the incidents" />}
      {incidents.isError && <Trouble error={incidents.error} retry={() => incidents.refetch()} />}
      {incidents.data?.length === 0 && <Nothing state={state} />}
      {incidents.data && incidents.data.length > 0 && (
        <Table className="rows">
          <Table.Thead>
            <Table.Tr>
              <Table.Th>what</Table.Th>
              <Table.Th>began</Table.Th>
              <Table.Th>over</Table.Th>
              <Table.Th className="right">strongest</Table.Th>
              <Table.Th
                className="right"
                title="How many groups like it chance would bring about in this history"
              >
                by chance
              </Table.Th>
              <Table.Th className="right">to judge</Table.Th>
              <Table.Th>state</Table.Th>
              <Table.Th>cause</Table.Th>
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {incidents.data.map((r) => (
              <Row key={r.id ?? `p${r.finding}`} row={r} me={me} />
            ))}
          </Table.Tbody>
        </Table>
      )}
    </div>
  );
}

function Row({ row, me }: { row: IncidentRow; me: string }) {
  return (
    <Table.Tr>
      <Table.Td>
        <Mark kind={row.kind} direction={row.direction} />{" "}
        <Link className="act" to={incidentLink(row)}>
          {row.title}
        </Link>
      </Table.Td>
      <Table.Td>{whenWords(row)}</Table.Td>
      <Table.Td>{scopeWords(row)}</Table.Td>
      <Table.Td className="figure right">{row.score === null ? "–" : `${figure(row.score, 1)} σ`}</Table.Td>
      <Table.Td className="figure right">{row.by_chance === null ? "" : chanceWords(row.by_chance)}</Table.Td>
      <Table.Td className="figure right">
        {row.open} of {row.findings}
      </Table.Td>
      <Table.Td>{stateWords(row, me)}</Table.Td>
      <Table.Td>{row.cause}</Table.Td>
    </Table.Tr>
  );
}

function Nothing({ state }: { state: State }) {
  return (
    <div className="empty">
      <h2>{state === "open" ? "No open incident" : "None here"}</h2>
      <p>
        {state === "open"
          ? "No open findings go together just now. Lone findings wait in the review."
          : "Incidents come here once somebody has said so on their page."}{" "}
        <Link className="act" to={state === "open" ? "/review" : "/incidents"}>
          {state === "open" ? "Review findings" : "Open ones"}
        </Link>
      </p>
    </div>
  );
}
