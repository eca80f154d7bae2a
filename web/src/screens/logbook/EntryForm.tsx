import { Button } from "@mantine/core";
import { type FormEvent, useState } from "react";
import { api, Problem, type Verdict } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { Field, SelectField } from "../../parts/Field";
import { VERDICT_WORDS } from "../../parts/marks";
import { MomentField } from "../../parts/When";
import { fleetZone, shownZone } from "../../parts/zones";
import "./logbook.css";

const VERDICT_LIST = Object.keys(VERDICT_WORDS) as Verdict[];

/** Write an entry: over a stated scope and span where it is begun on a chart. */
export function EntryForm({
  scope = "",
  from,
  to,
  onDone,
  onForget,
  zone = fleetZone(),
}: {
  scope?: string;
  /** Whose clock the span is written by. */
  zone?: string;
  from?: number;
  to?: number;
  onDone: () => void;
  onForget?: () => void;
}) {
  const { error, attempt } = useAttempt();
  const [start, setStart] = useState<number | null>(from ?? null);
  const [end, setEnd] = useState<number | null>(to ?? null);
  const submit = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    await attempt(async () => {
      if (start === null) throw new Problem(400, "an entry needs a start", "from", "choose a day and a time");
      await api.POST("/api/v1/logbook", {
        body: {
          scope: String(form.get("scope") ?? ""),
          start,
          end: end ?? start,
          verdict: String(form.get("verdict")) as Verdict,
          cause: String(form.get("cause") ?? ""),
          kind: String(form.get("kind") ?? ""),
        },
      });
      onDone();
    });
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
      <div className="labelled">
        From, {shownZone(zone)}
        <MomentField label="From" value={start} zone={zone} onChange={setStart} />
      </div>
      <div className="labelled">
        To
        <MomentField label="To" value={end} zone={zone} onChange={setEnd} />
      </div>
      <label className="filler">
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
      <label className="filler">
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
