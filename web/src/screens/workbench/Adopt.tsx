import { Button, Group } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, get, type Scan, type Schema } from "../../api/client";
import { Trouble, Waiting } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { plural } from "../../parts/words";
import { Changes } from "./Changes";

type Adoption = Schema["Adoption"];

/** Make a trial's plan stand for its streams: first what that changes, then the act, and the way back. */
export function Adopt({ scan, stream, onAdopted }: { scan: Scan; stream: number; onAdopted: () => void }) {
  const client = useQueryClient();
  const [isOpen, setOpen] = useState(false);
  const adoption = useQuery({
    queryKey: ["adoption", scan.id],
    enabled: isOpen,
    queryFn: () => get(api.GET("/api/v1/scans/{id}/adoption", { params: { path: { id: scan.id } } })),
  });
  const { error, isBusy, attempt } = useAttempt();
  const adopt = (streams: number[] | undefined) =>
    attempt(async () => {
      const before = (adoption.data ?? []).map((a) => ({
        ...a,
        streams: a.streams.filter((s) => !streams || streams.includes(s)),
      }));
      await api.POST("/api/v1/scans/{id}/adopt", { params: { path: { id: scan.id } }, body: { streams } });
      rememberBefore(before);
      await client.invalidateQueries();
      onAdopted();
    });
  if (!isOpen) return <Button onClick={() => setOpen(true)}>Make it standing …</Button>;
  if (adoption.isPending) return <Waiting what="Comparing it with what stands" />;
  if (adoption.isError) return <Trouble error={adoption.error} retry={() => adoption.refetch()} />;
  return (
    <section aria-label="What would stand" className="versions">
      {adoption.data.map((a) => (
        <div key={a.scan ?? 0} className="small">
          {a.scan === null
            ? `Nothing stands for ${plural(a.streams.length, "stream")} yet: ${plural(a.findings_then, "finding")} then.`
            : `In place of ${a.plan} v${a.version} for ${plural(a.streams.length, "stream")}: ${plural(a.findings, "finding")} now, ${a.findings_then} then.`}
          {a.scan !== null && <Changes lines={a.changes} />}
        </div>
      ))}
      <Group gap="6px 18px">
        <Button variant="filled" disabled={isBusy} onClick={() => void adopt(undefined)}>
          Make it standing{scan.streams > 1 ? ` for ${plural(scan.streams, "stream")}` : ""}
        </Button>
        {scan.streams > 1 && (
          <Button disabled={isBusy} onClick={() => void adopt([stream])}>
            For this one only
          </Button>
        )}
        <Button onClick={() => setOpen(false)}>Leave it</Button>
      </Group>
      {error !== null && <Trouble error={error} />}
    </section>
  );
}

const KEY = "watchtide-stood-before";

/** What stood before the last adoption in this tab: with it, that can be undone. */
function rememberBefore(before: Adoption[]): void {
  const known = before.filter((a) => a.scan !== null && a.streams.length);
  if (known.length) sessionStorage.setItem(KEY, JSON.stringify(known));
  else sessionStorage.removeItem(KEY);
}

function stoodBefore(stream: number): Adoption[] {
  const kept = JSON.parse(sessionStorage.getItem(KEY) ?? "[]") as Adoption[];
  return kept.some((a) => a.streams.includes(stream)) ? kept : [];
}

/** Back to what stood before the last adoption. */
export function Unadopt({ stream, onBack }: { stream: number; onBack: () => void }) {
  const client = useQueryClient();
  const { error, isBusy, attempt } = useAttempt();
  const before = stoodBefore(stream);
  if (!before.length) return null;
  const undo = () =>
    attempt(async () => {
      for (const a of before)
        await api.POST("/api/v1/scans/{id}/adopt", {
          params: { path: { id: a.scan ?? 0 } },
          body: { streams: a.streams },
        });
      sessionStorage.removeItem(KEY);
      await client.invalidateQueries();
      onBack();
    });
  const streams = before.reduce((n, a) => n + a.streams.length, 0);
  return (
    <>
      <Button disabled={isBusy} onClick={() => void undo()}>
        Undo: let {before[0]?.plan} v{before[0]?.version} stand again for {plural(streams, "stream")}
      </Button>
      {error !== null && <Trouble error={error} />}
    </>
  );
}
