import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, list, type Scan } from "../../api/client";
import { TopBar } from "../../frame";
import { Trouble, Waiting } from "../../parts/ask";
import { dayTime, figure, LOCAL, plural, ratio } from "../../parts/words";
import { Trend } from "./Trend";
import "./scorecard.css";

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
            <button
              type="button"
              className="act"
              disabled={chosen.length < 2}
              onClick={() => navigate(`/scorecards/compare?scans=${chosen.join(",")}`)}
            >
              Compare {chosen.length > 1 ? chosen.length : ""} scans
            </button>{" "}
            <span className="soft small">
              {chosen.length < 2
                ? `tick two to ${MOST}; the one ticked first is what the others are set against`
                : "on the streams and the span that all of them judged"}
            </span>
          </p>
          <table className="rows">
            <thead>
              <tr>
                <th>
                  <span className="visually-hidden">compare</span>
                </th>
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
                <Row key={s.id} scan={s} isChosen={chosen.includes(s.id)} onChoose={() => choose(s.id)} />
              ))}
            </tbody>
          </table>
        </>
      )}
      {published.data && published.data.length > 0 && (
        <section aria-label="Published" style={{ marginTop: 18 }}>
          <h2>
            Published <span className="soft small">frozen, with all that was counted</span>
          </h2>
          <table className="rows">
            <thead>
              <tr>
                <th>title</th>
                <th>plan</th>
                <th className="figure">streams</th>
                <th className="figure">precision</th>
                <th className="figure">recall</th>
                <th>by</th>
                <th>on, {LOCAL}</th>
              </tr>
            </thead>
            <tbody>
              {published.data.map((p) => (
                <tr key={p.id}>
                  <td>
                    <Link to={`/published/${p.id}`}>
                      <strong>{p.title}</strong>
                    </Link>
                  </td>
                  <td>
                    {p.plan}, v{p.version}
                    {p.mode === "replay" ? ", replayed" : ""}
                  </td>
                  <td className="figure">{figure(p.streams)}</td>
                  <td className="figure">{ratio(p.precision)}</td>
                  <td className="figure">{ratio(p.recall)}</td>
                  <td className="soft">{p.author}</td>
                  <td className="soft">{dayTime(p.created_at, LOCAL)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
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
    <tr>
      <td>
        <input
          type="checkbox"
          aria-label={`Compare ${name}, scan ${s.id}`}
          checked={isChosen}
          disabled={s.state !== "done"}
          onChange={onChoose}
        />
      </td>
      <td>
        {s.state === "done" ? (
          <Link to={`/scorecards/${s.id}`}>
            <strong>{name}</strong>
          </Link>
        ) : (
          name
        )}
      </td>
      <td>
        {plural(s.streams, "stream")} <span className="soft">{s.metrics.join(", ")}</span>
      </td>
      <td className="figure">{s.state === "done" ? figure(s.findings) : "–"}</td>
      <td className="figure">{ratio(s.precision)}</td>
      <td className="figure">{ratio(s.recall)}</td>
      <td>
        {s.state === "done"
          ? s.mode === "replay"
            ? "replay"
            : s.is_standing
              ? "standing"
              : "trial"
          : s.state}
      </td>
      <td className="soft">{s.created_by}</td>
      <td className="soft">{dayTime(s.created_at, LOCAL)}</td>
    </tr>
  );
}
