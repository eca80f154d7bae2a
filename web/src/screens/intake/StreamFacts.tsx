import { Button, Group } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, get, type Job, onlyIf, type Schema } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { Field, SelectField } from "../../parts/Field";
import { FormRow } from "../../parts/FormRow";
import { ended } from "../../parts/jobs";
import { figure, plural } from "../../parts/words";

type Stream = Schema["CatalogueStream"];

/** What is known of one stream, as a form; deleting asks for its key. */
export function StreamFacts({ stream, onDone }: { stream: Stream; onDone: (report: string) => void }) {
  const { error, attempt } = useAttempt();
  const path = { params: { path: { id: stream.id } } };
  const save = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const data = new FormData(event.currentTarget);
    const text = (name: string) => String(data.get(name) ?? "").trim();
    const body = {
      metric: text("metric"),
      attributes: pairsOf(text("attributes")),
      title_given: text("title_given"),
      family: text("family"),
      unit: text("unit"),
      zone: text("zone"),
      bad_side: text("bad_side") as Stream["bad_side"],
      owner: text("owner"),
      runbook: text("runbook"),
      fed_by: text("fed_by").split(/\s+/).filter(Boolean).map(Number),
      retention_days: Number(text("retention_days")) || null,
    };
    void attempt(async () => {
      const saved = await get(api.PATCH("/api/v1/streams/{id}/facts", { ...path, body, ...onlyIf(stream) }));
      onDone(`${saved.title} is changed.`);
      return "";
    });
  };
  const field = (name: keyof Stream & string, label: string, w = "22ch", hint = "") => (
    <label>
      {label}
      <Field w={w} name={name} defaultValue={String(stream[name] ?? "")} placeholder={hint} />
    </label>
  );
  return (
    <>
      <FormRow onSubmit={save} aria-label={`Facts of ${stream.title}`}>
        {field("metric", "Metric")}
        <label>
          Attributes
          <Field
            w="46ch"
            name="attributes"
            defaultValue={(stream.attributes ?? []).map((p) => p.join("=")).join(", ")}
          />
        </label>
        {field("title_given", "Shown as", "22ch", stream.title)}
        {field("family", "Family", "22ch", stream.metric)}
        {field("unit", "Unit", "9ch")}
        {field("zone", "Zone")}
        <label>
          Bad side
          <SelectField name="bad_side" defaultValue={stream.bad_side}>
            <option value="both">above and below</option>
            <option value="above">above</option>
            <option value="below">below</option>
          </SelectField>
        </label>
        {field("owner", "Owner")}
        {field("runbook", "Runbook", "46ch", "https://…")}
        <label>
          Fed by (numbers of streams)
          <Field w="22ch" name="fed_by" defaultValue={stream.fed_by.join(" ")} />
        </label>
        <Retention stream={stream} />
        <Button type="submit">Save</Button>
        <span className="soft small">
          number {stream.id} · key {stream.key}
        </span>
      </FormRow>
      {error !== null && <Trouble error={error} />}
      <Delete stream={stream} onDone={onDone} />
    </>
  );
}

function pairsOf(text: string): string[][] {
  return text
    .split(",")
    .map((pair) => pair.trim())
    .filter(Boolean)
    .map((pair) => {
      const at = pair.indexOf("=");
      return at < 0 ? [pair, ""] : [pair.slice(0, at).trim(), pair.slice(at + 1).trim()];
    });
}

/** How long samples are kept, and what that would drop, before it is saved. */
function Retention({ stream }: { stream: Stream }) {
  const [days, setDays] = useState(stream.retention_days ? String(stream.retention_days) : "");
  const dry = useQuery({
    queryKey: ["retention", stream.id, days],
    enabled: Number(days) >= 1,
    queryFn: () =>
      get(
        api.GET("/api/v1/streams/{id}/retention", {
          params: { path: { id: stream.id }, query: { days: Number(days) } },
        }),
      ),
  });
  return (
    <label>
      Keep samples for, days (empty: for ever)
      <Field
        w="9ch"
        name="retention_days"
        type="number"
        min={1}
        value={days}
        onChange={(e) => setDays(e.target.value)}
      />
      <span role="status" className="small">
        {days && dry.data
          ? dry.data.samples
            ? `would drop ${plural(dry.data.samples, "sample")} from before ${dry.data.before.slice(0, 10)}`
            : "would drop nothing now"
          : ""}
      </span>
    </label>
  );
}

function Delete({ stream, onDone }: { stream: Stream; onDone: (report: string) => void }) {
  const [isAsking, setAsking] = useState(false);
  const [confirm, setConfirm] = useState("");
  const { error, attempt } = useAttempt();
  const remove = () =>
    attempt(async () => {
      const { data } = await api.DELETE("/api/v1/streams/{id}/facts", {
        params: { path: { id: stream.id } },
        body: { confirm },
      } as never);
      await ended((data as unknown as Job).id);
      onDone(`${stream.title} is deleted.`);
    });
  if (!isAsking) return <Button onClick={() => setAsking(true)}>Delete this stream</Button>;
  return (
    <Group gap="12px 18px" align="end" py={12} className="ruled fields">
      <label>
        This deletes {figure(stream.samples)} samples and all findings of the stream for good. Repeat its key
        to confirm: {stream.key}
        <Field w="46ch" value={confirm} onChange={(e) => setConfirm(e.target.value)} />
      </label>
      <Button disabled={confirm !== stream.key} onClick={remove}>
        Delete for good
      </Button>
      <Button onClick={() => setAsking(false)}>Keep it</Button>
      {error !== null && <Trouble error={error} />}
    </Group>
  );
}
