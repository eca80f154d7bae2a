import { Button } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, list } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { Field } from "../../parts/Field";
import { dayTime, LOCAL } from "../../parts/words";
import { scopeWords } from "./EntryRow";

/** Planned work: what is quiet and until when, and noting more of it. */
export function Quiets({ isOpen, onDone }: { isOpen: boolean; onDone: () => void }) {
  const client = useQueryClient();
  const [error, setError] = useState<unknown>(null);
  const quiets = useQuery({
    queryKey: ["logbook", "quiet"],
    queryFn: () => list(api.GET("/api/v1/logbook/quiet")),
  });
  const fresh = () => client.invalidateQueries({ queryKey: ["logbook"] });
  const end = async (id: number) => {
    setError(null);
    try {
      await api.DELETE("/api/v1/logbook/quiet/{id}", { params: { path: { id } } });
    } catch (problem) {
      setError(problem);
    }
    void fresh();
  };
  const submit = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const moment = (name: string) => {
      const local = String(form.get(name) ?? "");
      return local ? new Date(local).getTime() : undefined;
    };
    const end = moment("end");
    if (end === undefined) return;
    setError(null);
    try {
      await api.POST("/api/v1/logbook/quiet", {
        body: {
          scope: String(form.get("scope") ?? ""),
          start: moment("start"),
          end,
          reason: String(form.get("reason") ?? ""),
        },
      });
      onDone();
    } catch (problem) {
      setError(problem);
    }
    void fresh();
  };
  const rows = quiets.data ?? [];
  return (
    <>
      {isOpen && (
        <form onSubmit={submit} className="new-entry" aria-label="Quiet until">
          <label style={{ flex: 1 }}>
            Quiet over (empty: every stream)
            <Field className="field" name="scope" placeholder="metric=cold_hold_temp,hold=2" />
          </label>
          <label>
            From, {LOCAL} (empty: now)
            <Field className="field" type="datetime-local" name="start" />
          </label>
          <label>
            Until
            <Field className="field" type="datetime-local" name="end" required />
          </label>
          <label style={{ flex: 1 }}>
            Because of
            <Field className="field" name="reason" required maxLength={500} placeholder="seal is replaced" />
          </label>
          <Button type="submit" variant="filled">
            Keep quiet
          </Button>
        </form>
      )}
      {error !== null && <Trouble error={error} />}
      {rows.length > 0 && (
        <ul className="quiets small" aria-label="Planned work">
          {rows.slice(0, 8).map((q) => (
            <li key={q.id}>
              Quiet: <strong>{scopeWords(q.scope ?? "")}</strong>, {dayTime(q.start ?? 0, LOCAL)} to{" "}
              {dayTime(q.end, LOCAL)}, {q.reason} <span className="soft">({q.by})</span>{" "}
              <Button onClick={() => end(q.id)}>
                {(q.start ?? 0) <= Date.now() && Date.now() < q.end ? "End it now" : "Take it away"}
              </Button>
            </li>
          ))}
          <li className="soft">
            Findings in these spans are kept and marked, and left out of figures and of what is open.
          </li>
        </ul>
      )}
    </>
  );
}
