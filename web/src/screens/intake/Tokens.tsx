import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, get, type Schema } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { day, dayTime } from "../../parts/words";
import { useAttempt } from "./attempt";

type Scope = Schema["TokenRequest"]["scopes"][number];
const LOCAL = Intl.DateTimeFormat().resolvedOptions().timeZone;
const SCOPES: Record<Scope, string> = { push: "push samples", read: "read", write: "change things" };

/** Keys for scripts and senders; a new one's text is shown once. */
export function Tokens() {
  const client = useQueryClient();
  const { told, error, attempt } = useAttempt();
  const [fresh, setFresh] = useState<{ name: string; text: string } | null>(null);
  const tokens = useQuery({ queryKey: ["tokens"], queryFn: () => get(api.GET("/api/v1/tokens")) });
  const again = () => client.invalidateQueries({ queryKey: ["tokens"] });
  const make = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const data = new FormData(event.currentTarget);
    const days = Number(data.get("days"));
    void attempt(async () => {
      const made = await get(
        api.POST("/api/v1/tokens", {
          body: {
            name: String(data.get("name")),
            scopes: data.getAll("scope") as Scope[],
            days: days > 0 ? days : null,
          },
        }),
      );
      setFresh({ name: made.name, text: made.text ?? "" });
      again();
      return "";
    });
  };
  const revoke = (id: number, name: string) =>
    attempt(async () => {
      await api.DELETE("/api/v1/tokens/{id}", { params: { path: { id } } });
      again();
      return `${name} is revoked.`;
    });
  return (
    <section style={{ marginTop: 22 }}>
      <h2>Tokens</h2>
      <p className="soft">
        Senders push OpenTelemetry metrics to <code>/v1/metrics</code> and JSON Lines to{" "}
        <code>/api/v1/push</code>, with the header <code>Authorization: Bearer …</code>. The same batch sent
        twice changes nothing.
      </p>
      {told && <p role="status">{told}</p>}
      {error !== null && <Trouble error={error} />}
      {fresh && (
        <p role="status">
          The token <strong>{fresh.name}</strong>, shown this once:{" "}
          <span className="secret">{fresh.text}</span>
        </p>
      )}
      {Boolean(tokens.data?.length) && (
        <table className="rows">
          <thead>
            <tr>
              <th>name</th>
              <th>begins with</th>
              <th>may</th>
              <th>of</th>
              <th>made</th>
              <th>last used, {LOCAL}</th>
              <th>ends</th>
              <th>
                <span className="visually-hidden">revoke</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {tokens.data?.map((t) => (
              <tr key={t.id} data-gone={t.revoked_at ? true : undefined}>
                <td>{t.name}</td>
                <td>
                  <code>{t.hint}…</code>
                </td>
                <td>{t.scopes.map((s) => SCOPES[s as Scope]).join(", ")}</td>
                <td className="soft">{t.owner}</td>
                <td className="soft">{day(Date.parse(t.created_at), LOCAL)}</td>
                <td className="soft">
                  {t.last_used_at ? dayTime(Date.parse(t.last_used_at), LOCAL) : "never"}
                </td>
                <td className="soft">{t.expires_at ? day(Date.parse(t.expires_at), LOCAL) : "never"}</td>
                <td>
                  {t.revoked_at ? (
                    <span className="soft">revoked</span>
                  ) : (
                    <button
                      type="button"
                      className="act"
                      aria-label={`Revoke ${t.name}`}
                      onClick={() => revoke(t.id, t.name)}
                    >
                      Revoke
                    </button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <form className="form" onSubmit={make} aria-label="New token">
        <label>
          Name of a new token
          <input className="field mid" name="name" required maxLength={120} placeholder="night loader" />
        </label>
        {(Object.keys(SCOPES) as Scope[]).map((s) => (
          <span key={s}>
            <label style={{ display: "inline" }}>
              <input type="checkbox" name="scope" value={s} defaultChecked={s === "push"} /> may {SCOPES[s]}
            </label>
          </span>
        ))}
        <label>
          Ends after, days (0: never)
          <input className="field num" name="days" type="number" min={0} max={3650} defaultValue={90} />
        </label>
        <button type="submit" className="act">
          Make a token
        </button>
      </form>
    </section>
  );
}
