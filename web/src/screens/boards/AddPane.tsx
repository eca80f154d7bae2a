import { Button } from "@mantine/core";
import { type FormEvent, useState } from "react";
import type { TideRow } from "../../api/client";
import { Field, SelectField } from "../../parts/Field";
import { FormRow } from "../../parts/FormRow";
import { StreamsSelect } from "../../parts/StreamSelect";
import { useMetrics } from "../../parts/streams";
import { below, KINDS, type Kind, type Pane } from "./words";

/** Streams that one pane lays over one another at most. */
const MOST_LINES = 6;
const OF_STREAM: Kind[] = ["stream", "several", "forecast", "look"];
const BY_HOURS: Kind[] = ["stream", "several", "forecast"];
const TALL: Partial<Record<Kind, number>> = { several: 10, ribbons: 8, scorecard: 3, text: 3, strongest: 6 };

/** What goes onto the board next: chosen by kind, with what it needs; it is put below the others. */
export function AddPane({ panes, add }: { panes: Pane[]; add: (pane: Pane) => void }) {
  const [kind, setKind] = useState<Kind>("stream");
  const [streams, setStreams] = useState<TideRow[]>([]);
  const metrics = useMetrics();
  const most = kind === "several" ? MOST_LINES : 1;
  const put = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const chosen = streams.slice(0, most).map((row) => row.id);
    if (OF_STREAM.includes(kind) && !chosen.length) return;
    add({
      kind,
      title: String(form.get("title") ?? ""),
      x: 0,
      y: below(panes),
      w: 6,
      h: TALL[kind] ?? 6,
      ...(kind === "several" ? { streams: chosen } : OF_STREAM.includes(kind) ? { stream: chosen[0] } : {}),
      ...(BY_HOURS.includes(kind) ? { hours: Number(form.get("hours")) } : {}),
      ...(kind === "ribbons" ? { metric: String(form.get("metric")) } : {}),
      ...(kind === "look" ? { by: String(form.get("by")) as Pane["by"] } : {}),
      ...(kind === "text" ? { text: String(form.get("text")) } : {}),
    });
  };
  return (
    <FormRow aria-label="New pane" onSubmit={put}>
      <label>
        Show
        <SelectField value={kind} onChange={(event) => setKind(event.currentTarget.value as Kind)}>
          {KINDS.map(([id, words, more]) => (
            <option key={id} value={id}>
              {words}: {more}
            </option>
          ))}
        </SelectField>
      </label>
      {OF_STREAM.includes(kind) && (
        <StreamsSelect
          label={kind === "several" ? `Streams, up to ${MOST_LINES}` : "Stream"}
          most={most}
          chosen={streams.slice(0, most)}
          onChange={setStreams}
        />
      )}
      {kind === "look" && (
        <label>
          Of
          <SelectField name="by">
            <option value="day">the day</option>
            <option value="week">the week</option>
          </SelectField>
        </label>
      )}
      {BY_HOURS.includes(kind) && (
        <label>
          Hours
          <Field w="9ch" name="hours" type="number" min={1} max={8_784} defaultValue={48} required />
        </label>
      )}
      {kind === "ribbons" && (
        <label>
          Metric
          <SelectField name="metric" required>
            {metrics.data?.map((metric) => (
              <option key={metric}>{metric}</option>
            ))}
          </SelectField>
        </label>
      )}
      {kind === "text" && (
        <label>
          Text
          <Field w="46ch" name="text" required maxLength={2_000} />
        </label>
      )}
      <label>
        Heading
        <Field w="22ch" name="title" maxLength={120} placeholder="its own" />
      </label>
      <Button type="submit" variant="filled">
        Put it on the board
      </Button>
    </FormRow>
  );
}
