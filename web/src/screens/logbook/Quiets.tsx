import { Box, Button } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, list, Problem } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { Field } from "../../parts/Field";
import { FormRow } from "../../parts/FormRow";
import { MomentField } from "../../parts/When";
import { dayTime } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { scopeWords } from "./EntryRow";

/** Planned work: what is quiet and until when, and noting more of it. */
export function Quiets({ isOpen, onDone }: { isOpen: boolean; onDone: () => void }) {
  const client = useQueryClient();
  const { error, attempt } = useAttempt();
  const [from, setFrom] = useState<number | null>(null);
  const [until, setUntil] = useState<number | null>(null);
  const quiets = useQuery({
    queryKey: ["logbook", "quiet"],
    queryFn: () => list(api.GET("/api/v1/logbook/quiet")),
  });
  const fresh = () => client.invalidateQueries({ queryKey: ["logbook"] });
  const end = async (id: number) => {
    await attempt(async () => {
      await api.DELETE("/api/v1/logbook/quiet/{id}", { params: { path: { id } } });
    });
    void fresh();
  };
  const submit = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    await attempt(async () => {
      if (until === null) throw new Problem(400, "quiet needs an end", "until", "choose a day and a time");
      await api.POST("/api/v1/logbook/quiet", {
        body: {
          scope: String(form.get("scope") ?? ""),
          start: from ?? undefined,
          end: until,
          reason: String(form.get("reason") ?? ""),
        },
      });
      onDone();
    });
    void fresh();
  };
  const rows = quiets.data ?? [];
  return (
    <>
      {isOpen && (
        <FormRow onSubmit={submit} aria-label="Quiet until">
          <label className="filler">
            Quiet over (empty: every stream)
            <Field name="scope" placeholder="metric=cold_hold_temp,hold=2" />
          </label>
          <div className="labelled">
            From, {fleetZone()} (empty: now)
            <MomentField label="From" value={from} zone={fleetZone()} onChange={setFrom} />
          </div>
          <div className="labelled">
            Until
            <MomentField label="Until" value={until} zone={fleetZone()} onChange={setUntil} />
          </div>
          <label className="filler">
            Because of
            <Field name="reason" required maxLength={500} placeholder="seal is replaced" />
          </label>
          <Button type="submit" variant="filled">
            Keep quiet
          </Button>
        </FormRow>
      )}
      {error !== null && <Trouble error={error} />}
      {rows.length > 0 && (
        <Box component="ul" mb={8} className="plain small" aria-label="Planned work">
          {rows.slice(0, 8).map((q) => (
            <li key={q.id}>
              Quiet: <strong>{scopeWords(q.scope ?? "")}</strong>, {dayTime(q.start ?? 0, fleetZone())} to{" "}
              {dayTime(q.end, fleetZone())}, {q.reason} <span className="soft">({q.by})</span>{" "}
              <Button onClick={() => end(q.id)}>
                {(q.start ?? 0) <= Date.now() && Date.now() < q.end ? "End it now" : "Take it away"}
              </Button>
            </li>
          ))}
          <li className="soft">
            Findings in these spans are kept and marked, and left out of figures and of what is open.
          </li>
        </Box>
      )}
    </>
  );
}
