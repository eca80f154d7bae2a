import { useQuery, useQueryClient } from "@tanstack/react-query";
import type { FormEvent } from "react";
import { Link } from "react-router";
import { api, get, list } from "../../api/client";
import { TopBar } from "../../frame";
import { Trouble } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { dayTime, LOCAL, plural } from "../../parts/words";
import { Tabs } from "./Tabs";
import "./intake.css";

/** Streams made of others: ratios, differences and sums, renewed when what they read changes. */
export default function Formulas() {
  const client = useQueryClient();
  const { told, error, attempt } = useAttempt();
  const formulas = useQuery({
    queryKey: ["formulas"],
    queryFn: () => list(api.GET("/api/v1/formulas")),
    refetchInterval: 10_000,
  });
  const again = () => client.invalidateQueries({ queryKey: ["formulas"] });
  const define = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const data = new FormData(event.currentTarget);
    const text = (name: string) => String(data.get(name) ?? "").trim();
    void attempt(async () => {
      const made = await get(
        api.POST("/api/v1/formulas", {
          body: {
            metric: text("metric"),
            formula: text("formula"),
            by: text("by")
              .split(",")
              .map((w) => w.trim())
              .filter(Boolean),
            every: text("every") || null,
            unit: text("unit"),
            zone: LOCAL,
          },
        }),
      );
      again();
      return `${text("metric")}: ${plural(made.streams, "stream")}, being computed.`;
    });
  };
  const remove = (id: number, metric: string) =>
    attempt(async () => {
      await api.DELETE("/api/v1/formulas/{id}", { params: { path: { id } } });
      again();
      return `${metric} is not computed any more; its streams stay.`;
    });
  return (
    <div className="padded intake">
      <TopBar>
        <h1>Intake</h1>
      </TopBar>
      <Tabs />
      <h1>Streams made of others</h1>
      <p className="soft">
        A metric in square brackets is its streams: <code>1000 * [ticket_failures] / [ticket_pages]</code>,{" "}
        <code>total of [gate_taps, fare=adult]</code>, <code>[in] - [out]</code>. Finer streams are brought to
        the coarsest cadence: counts add up, others are averaged. A ratio keeps what it divides by.
      </p>
      {told && <p role="status">{told}</p>}
      {error !== null && <Trouble error={error} />}
      <form className="form" onSubmit={define} aria-label="New formula">
        <label>
          Name of the result
          <input
            className="field mid"
            name="metric"
            required
            maxLength={180}
            placeholder="errors_per_mille"
          />
        </label>
        <label>
          Formula
          <input
            className="field long"
            name="formula"
            required
            placeholder="1000 * [failures] / [requests]"
          />
        </label>
        <label>
          One for each (attributes, by comma)
          <input className="field mid" name="by" placeholder="channel" />
        </label>
        <label>
          Every
          <input className="field num" name="every" placeholder="auto" />
        </label>
        <label>
          Unit
          <input className="field num" name="unit" placeholder="‰" />
        </label>
        <button type="submit" className="primary">
          Compute
        </button>
      </form>
      {formulas.data?.length === 0 && <p className="soft">No formula yet.</p>}
      {Boolean(formulas.data?.length) && (
        <table className="rows">
          <thead>
            <tr>
              <th>result</th>
              <th>formula</th>
              <th>one for each</th>
              <th>unit</th>
              <th>computed, {LOCAL}</th>
              <th>
                <span className="visually-hidden">what to do</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {formulas.data?.map((f) => (
              <tr key={f.id}>
                <td>
                  <Link className="act" to={`/intake/streams?q=${encodeURIComponent(f.metric)}`}>
                    {f.metric}
                  </Link>
                </td>
                <td>
                  <code>{f.formula}</code>
                  {f.message && <div className="bad-word small">{f.message}</div>}
                </td>
                <td>{f.by?.join(", ") || <span className="soft">one in all</span>}</td>
                <td>{f.unit}</td>
                <td className="soft">{f.renewed_at ? dayTime(f.renewed_at, LOCAL) : "being computed"}</td>
                <td>
                  <button
                    type="button"
                    className="act"
                    aria-label={`Remove ${f.metric}`}
                    onClick={() => remove(f.id, f.metric)}
                  >
                    Remove
                  </button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </div>
  );
}
