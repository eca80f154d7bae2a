import { useQuery } from "@tanstack/react-query";
import { api, list } from "../../api/client";
import { TopBar } from "../../frame";
import { dayTime, figure, LOCAL } from "../../parts/words";
import { Tokens } from "../settings/Tokens";
import { Feeds } from "./Feeds";
import { Tabs } from "./Tabs";
import "./intake.css";

/** What comes in by itself: pages fetched on a schedule, and what scripts and senders push. */
export default function Live() {
  return (
    <div className="padded intake">
      <TopBar>
        <h1>Intake</h1>
      </TopBar>
      <Tabs />
      <Doors />
      <Feeds />
      <Tokens />
    </div>
  );
}

function Doors() {
  const doors = useQuery({
    queryKey: ["doors"],
    queryFn: () => list(api.GET("/api/v1/doors")),
    refetchInterval: 10_000,
  });
  return (
    <section>
      <h2>What came in</h2>
      {doors.data?.length === 0 && (
        <p className="soft">Nothing yet. Add a feed, or make a token and push to the addresses below.</p>
      )}
      {Boolean(doors.data?.length) && (
        <table className="rows">
          <thead>
            <tr>
              <th>from</th>
              <th>how</th>
              <th className="figure">messages</th>
              <th className="figure">samples</th>
              <th className="figure">points refused</th>
              <th>latest, {LOCAL}</th>
            </tr>
          </thead>
          <tbody>
            {doors.data?.map((d) => (
              <tr key={`${d.door} ${d.source}`}>
                <td>{d.source}</td>
                <td className="soft">{d.door === "push" ? "pushed" : "fetched"}</td>
                <td className="figure">{figure(d.batches)}</td>
                <td className="figure">{figure(d.samples)}</td>
                <td className="figure">{figure(d.rows_aside)}</td>
                <td className="soft">{dayTime(d.last, LOCAL)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}
