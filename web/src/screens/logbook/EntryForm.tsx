import { Button } from "@mantine/core";
import { useForm } from "@mantine/form";
import { api, Problem, type Verdict } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { Field, SelectField } from "../../parts/Field";
import { FormRow } from "../../parts/FormRow";
import { VERDICT_WORDS } from "../../parts/marks";
import { MomentField } from "../../parts/When";
import { fleetZone, shownZone } from "../../parts/zones";

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
  const form = useForm({
    initialValues: {
      scope,
      start: from ?? null,
      end: to ?? null,
      verdict: VERDICT_LIST[0] as Verdict,
      cause: "",
      kind: "",
    },
  });
  const submit = form.onSubmit(({ start, end, ...rest }) =>
    attempt(async () => {
      if (start === null) throw new Problem(400, "an entry needs a start", "from", "choose a day and a time");
      await api.POST("/api/v1/logbook", { body: { ...rest, start, end: end ?? start } });
      onDone();
    }),
  );
  return (
    <FormRow onSubmit={submit} aria-label="New entry" onKeyDown={(e) => e.key === "Escape" && onForget?.()}>
      <label>
        Verdict
        <SelectField autoFocus name="verdict" {...form.getInputProps("verdict")}>
          {VERDICT_LIST.map((v) => (
            <option key={v} value={v}>
              {VERDICT_WORDS[v]}
            </option>
          ))}
        </SelectField>
      </label>
      <div className="labelled">
        From, {shownZone(zone)}
        <MomentField
          label="From"
          zone={zone}
          value={form.values.start}
          onChange={(ms) => form.setFieldValue("start", ms)}
        />
      </div>
      <div className="labelled">
        To
        <MomentField
          label="To"
          zone={zone}
          value={form.values.end}
          onChange={(ms) => form.setFieldValue("end", ms)}
        />
      </div>
      <label className="filler">
        Over (empty: every stream)
        <Field name="scope" {...form.getInputProps("scope")} placeholder="metric=gate_taps,place=Gullhaven" />
      </label>
      <label>
        Kind
        <Field name="kind" {...form.getInputProps("kind")} placeholder="spike, step, …" w="12ch" />
      </label>
      <label className="filler">
        Cause
        <Field name="cause" {...form.getInputProps("cause")} />
      </label>
      <Button type="submit" variant="filled">
        Write it down
      </Button>
      {onForget && <Button onClick={onForget}>Leave it</Button>}
      {error !== null && <Trouble error={error} />}
    </FormRow>
  );
}
