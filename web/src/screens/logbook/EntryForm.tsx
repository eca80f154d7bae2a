import { Button } from "@mantine/core";
import { type FormEvent, useState } from "react";
import { api, Problem, type Verdict } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { Field, SelectField } from "../../parts/Field";
import { VERDICT_WORDS } from "../../parts/marks";
import { LOCAL, toLocalField } from "../../parts/words";
import "./logbook.css";

const VERDICT_LIST = Object.keys(VERDICT_WORDS) as Verdict[];

/** Write an entry: over a stated scope and span where it is begun on a chart. */
export function EntryForm({
  scope = "",
  from,
  to,
  onDone,
  onForget,
}: {
  scope?: string;
  from?: number;
  to?: number;
  onDone: () => void;
  onForget?: () => void;
}) {
  const [error, setError] = useState<unknown>(null);
  const submit = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const moment = (name: string) => {
      const local = String(form.get(name) ?? "");
      return local ? new Date(local).getTime() : null;
    };
    setError(null);
    try {
      const start = moment("start");
      if (start === null) throw new Problem(400, "an entry needs a start", "from", "choose a day and a time");
      await api.POST("/api/v1/logbook", {
        body: {
          scope: String(form.get("scope") ?? ""),
          start,
          end: moment("end") ?? start,
          verdict: String(form.get("verdict")) as Verdict,
          cause: String(form.get("cause") ?? ""),
          kind: String(form.get("kind") ?? ""),
        },
      });
      onDone();
    } catch (problem) {
      setError(problem);
    }
  };
  return (
    <form
      onSubmit={submit}
      className="new-entry"
      aria-label="New entry"
      onKeyDown={(e) => e.key === "Escape" && onForget?.()}
    >
      <label>
        Verdict
        <SelectField name="verdict" className="field" autoFocus>
          {VERDICT_LIST.map((v) => (
            <option key={v} value={v}>
              {VERDICT_WORDS[v]}
            </option>
          ))}
        </SelectField>
      </label>
      <label>
        From, {LOCAL}
        <Field
          className="field"
          type="datetime-local"
          step="1"
          name="start"
          required
          defaultValue={from === undefined ? "" : toLocalField(from)}
        />
      </label>
      <label>
        To
        <Field
          className="field"
          type="datetime-local"
          step="1"
          name="end"
          defaultValue={to === undefined ? "" : toLocalField(to)}
        />
      </label>
      <label style={{ flex: 1 }}>
        Over (empty: every stream)
        <Field
          className="field"
          name="scope"
          defaultValue={scope}
          placeholder="metric=gate_taps,place=Gullhaven"
        />
      </label>
      <label>
        Kind
        <Field className="field" name="kind" placeholder="spike, step, …" w="12ch" />
      </label>
      <label style={{ flex: 1 }}>
        Cause
        <Field className="field" name="cause" />
      </label>
      <Button type="submit" variant="filled">
        Write it down
      </Button>
      {onForget && <Button onClick={onForget}>Leave it</Button>}
      {error !== null && <Trouble error={error} />}
    </form>
  );
}
