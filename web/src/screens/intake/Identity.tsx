import { Box, Button, Group, Table } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, get, type Schema } from "../../api/client";
import { TopBar } from "../../frame";
import { Trouble, Waiting } from "../../parts/ask";
import { useJob } from "../../parts/jobs";
import { dayTime, plural } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { IdentityEffect } from "./IdentityEffect";
import { IdentityRule } from "./IdentityRule";
import { moved, NEW_RULE, type Rule } from "./rules";
import { Tabs } from "./Tabs";

/** Which attributes distinguish pushed and fetched streams: the rules, what a change would do, and putting it in force. */
export default function Identity() {
  const found = useQuery({ queryKey: ["identity"], queryFn: () => get(api.GET("/api/v1/identity")) });
  return (
    <div className="padded">
      <TopBar>
        <h1>Intake</h1>
      </TopBar>
      <Tabs />
      <Box component="p" maw="84ch">
        Two pushed series are the same stream when their metric and every attribute that these rules keep
        agree. Rules are read from the top: the first one that names an attribute decides, and an attribute
        that no rule names is kept. Samples of several senders of one stream are combined. Each sender's
        samples are stored as they came, so a rule can be changed and undone at any time.
      </Box>
      {found.isPending && <Waiting what="Reading the rules" />}
      {found.isError && <Trouble error={found.error} retry={() => found.refetch()} />}
      {found.data && <Rules key={found.data.versions[0]?.id ?? 0} identity={found.data} />}
    </div>
  );
}

function Rules({ identity }: { identity: Schema["Identity"] }) {
  const client = useQueryClient();
  const [rules, setRules] = useState<Rule[]>(identity.rules);
  const [job, setJob] = useState<number | null>(null);
  const preview = useMutation({
    mutationFn: () => get(api.POST("/api/v1/identity/preview", { body: { rules } })),
  });
  const put = useMutation({
    mutationFn: () => get(api.PUT("/api/v1/identity", { body: { rules } })),
    onSuccess: (answer) => setJob(answer.job.id),
  });
  const undo = useMutation({
    mutationFn: (id: number) => get(api.POST("/api/v1/identity/{id}/undo", { params: { path: { id } } })),
    onSuccess: (answer) => setJob(answer.id),
  });
  const running = useJob(job, () => {
    for (const key of ["identity", "tide", "catalogue"]) client.invalidateQueries({ queryKey: [key] });
  });
  const change = (next: Rule[]) => {
    setRules(next);
    preview.reset();
  };
  const isChanged = JSON.stringify(rules) !== JSON.stringify(identity.rules);
  const isBusy = running !== undefined && (running.state === "queued" || running.state === "running");
  const names = [
    ...new Set(preview.data?.streams.flatMap((s) => s.attributes.map(([name]) => name ?? "")) ?? []),
  ];
  return (
    <>
      <RuleTable rules={rules} names={names} onChange={change} />
      <Group gap="xl" my="md">
        <Button onClick={() => change([{ ...NEW_RULE }, ...rules])}>Add a rule on top</Button>
        <Button onClick={() => preview.mutate()} loading={preview.isPending}>
          Try on the last hour
        </Button>
        <Button
          variant="filled"
          disabled={!isChanged || isBusy || Boolean(preview.data?.problems.length)}
          onClick={() => put.mutate()}
        >
          Apply these rules
        </Button>
        {isChanged && <Button onClick={() => change(identity.rules)}>Discard changes</Button>}
      </Group>
      {[preview, put, undo].map((m) => m.error && <Trouble key={m.submittedAt} error={m.error} />)}
      {running && <p role="status">{progress(running)}</p>}
      {preview.data && <IdentityEffect effect={preview.data} />}
      <Versions identity={identity} onUndo={(id) => undo.mutate(id)} isBusy={isBusy} />
    </>
  );
}

function RuleTable({
  rules,
  names,
  onChange,
}: {
  rules: Rule[];
  names: string[];
  onChange: (rules: Rule[]) => void;
}) {
  // Rules are keyed from the bottom: a new one is put on top, and the others keep their fields open.
  const key = (i: number) => rules.length - i;
  return (
    <Table.ScrollContainer minWidth={720}>
      <Table className="rows" aria-label="Rules" maw={1100}>
        <Table.Thead>
          <Table.Tr>
            <Table.Th className="figure">#</Table.Th>
            <Table.Th>for</Table.Th>
            <Table.Th>what</Table.Th>
            <Table.Th>order</Table.Th>
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {rules.map((rule, i) => (
            <IdentityRule
              key={key(i)}
              rule={rule}
              number={i + 1}
              isLast={i === rules.length - 1}
              names={names}
              onChange={(one) => onChange(rules.map((r, j) => (j === i ? one : r)))}
              onMove={(by) => onChange(moved(rules, i, by))}
              onRemove={() => onChange(rules.filter((_, j) => j !== i))}
            />
          ))}
        </Table.Tbody>
      </Table>
    </Table.ScrollContainer>
  );
}

type VersionsProps = { identity: Schema["Identity"]; onUndo: (id: number) => void; isBusy: boolean };

function Versions({ identity, onUndo, isBusy }: VersionsProps) {
  if (identity.versions.length === 0)
    return (
      <p className="soft">
        These are the rules a new installation begins with, after OpenTelemetry's semantic conventions. Nobody
        has changed them.
      </p>
    );
  return (
    <section>
      <h2>Changes</h2>
      {identity.versions.map((v) => (
        <p key={v.id}>
          {dayTime(v.created_at, fleetZone())}, {fleetZone()}, by {v.by || "nobody"}:{" "}
          {plural(v.streams, "series", "series")} went to another stream.{" "}
          {v.undone_at ? (
            <span className="soft">Undone {dayTime(v.undone_at, fleetZone())}.</span>
          ) : (
            v.can_undo && (
              <Button disabled={isBusy} onClick={() => onUndo(v.id)}>
                Undo
              </Button>
            )
          )}
        </p>
      ))}
    </section>
  );
}

function progress(job: Schema["Job"]): string {
  if (job.state === "done") return "The rules are applied, and the history of joined streams is combined.";
  if (job.state === "failed") return `Combining the history failed: ${job.message}`;
  return "The rules are applied. The history of the streams that they join is being combined.";
}
