import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, get } from "../../api/client";
import { TopBar } from "../../frame";
import { Trouble, Waiting } from "../../parts/ask";
import { dayTime, figure, plural, ratio } from "../../parts/words";

const LOCAL = Intl.DateTimeFormat().resolvedOptions().timeZone;

/** All scans, standing ones first; each has a scorecard. */
export default function Scorecards() {
  const scans = useQuery({ queryKey: ["scans"], queryFn: () => get(api.GET("/api/v1/scans")) });
  if (scans.isPending) return <Waiting what="Reading the scans" />;
  if (scans.isError) return <Trouble error={scans.error} retry={() => scans.refetch()} />;
  const rows = [...scans.data].sort((a, b) => Number(b.is_standing) - Number(a.is_standing));
  return (
    <div className="padded">
      <TopBar>
        <h1>Scorecards</h1>
        <span className="soft">how each scan fares against the logbook</span>
      </TopBar>
      {rows.length === 0 ? (
        <div className="empty">
          <h2>Nothing has been scanned</h2>
          <p>
            <Link to="/intake">Bring in a file</Link> and let it be scanned.
          </p>
        </div>
      ) : (
        <table className="rows">
          <thead>
            <tr>
              <th>plan</th>
              <th>over</th>
              <th className="figure">findings</th>
              <th className="figure">precision</th>
              <th className="figure">recall</th>
              <th>state</th>
              <th>by</th>
              <th>run, {LOCAL}</th>
            </tr>
          </thead>
          <tbody>
            {rows.map((s) => (
              <tr key={s.id}>
                <td>
                  {s.state === "done" ? (
                    <Link to={`/scorecards/${s.id}`}>
                      <strong>
                        {s.plan}, v{s.version}
                      </strong>
                    </Link>
                  ) : (
                    `${s.plan}, v${s.version}`
                  )}
                </td>
                <td>
                  {plural(s.streams, "stream")} <span className="soft">{s.metrics.join(", ")}</span>
                </td>
                <td className="figure">{s.state === "done" ? figure(s.findings) : "–"}</td>
                <td className="figure">{ratio(s.precision)}</td>
                <td className="figure">{ratio(s.recall)}</td>
                <td>{s.state === "done" ? (s.is_standing ? "standing" : "trial") : s.state}</td>
                <td className="soft">{s.created_by}</td>
                <td className="soft">{dayTime(Date.parse(s.created_at), LOCAL)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </div>
  );
}
