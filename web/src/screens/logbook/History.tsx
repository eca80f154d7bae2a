import { Box, Button } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { api, type Entry, list, type Schema } from "../../api/client";
import { Trouble, Waiting } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { VERDICT_WORDS } from "../../parts/marks";
import { dayTime } from "../../parts/words";
import { fleetZone } from "../../parts/zones";

const DONE: Record<string, string> = {
  add: "wrote it down",
  change: "changed",
  remove: "took it out",
  restore: "put it back",
  import: "took it in from a file",
};

/** Every revision of an entry, newest first: who changed what, and the way back. */
export function History({ entry, onReturned }: { entry: Entry; onReturned: () => void }) {
  const client = useQueryClient();
  const { error, attempt } = useAttempt();
  const revisions = useQuery({
    queryKey: ["logbook", "revisions", entry.id],
    queryFn: () => list(api.GET("/api/v1/logbook/{id}/revisions", { params: { path: { id: entry.id } } })),
  });
  const back = async (revision: number) => {
    await attempt(async () => {
      await api.POST("/api/v1/logbook/{id}/revisions/{revision}/return", {
        params: { path: { id: entry.id, revision } },
      });
      await client.invalidateQueries({ queryKey: ["logbook"] });
      onReturned();
    });
  };
  if (revisions.isPending) return <Waiting what="Reading its history" />;
  if (revisions.isError) return <Trouble error={revisions.error} retry={() => revisions.refetch()} />;
  return (
    <>
      <Box component="ul" m="0 0 6px 34px" className="plain" aria-label="Revisions">
        {revisions.data.map((r, i) => (
          <li key={r.id} className="small">
            <span className="figure">{dayTime(r.at, fleetZone())}</span> <strong>{r.by}</strong>{" "}
            {DONE[r.action] ?? r.action} {changeWords(r)}{" "}
            {i > 0 && <Button onClick={() => void back(r.id)}>Make it so again</Button>}
          </li>
        ))}
      </Box>
      {error !== null && <Trouble error={error} />}
    </>
  );
}

function changeWords(revision: Schema["Revision"]): string {
  return revision.changed
    .map((c) => `${c.name} from ${valueWords(c.name, c.before)} to ${valueWords(c.name, c.after)}`)
    .join(", ");
}

function valueWords(name: string, value: unknown): string {
  if (value === null || value === undefined || value === "") return "nothing";
  if (name === "verdict") return VERDICT_WORDS[String(value)] ?? String(value);
  if (name === "start" || name === "end") return dayTime(Date.parse(String(value)), fleetZone());
  return `“${String(value)}”`;
}
