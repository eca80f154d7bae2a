import { Button, Group } from "@mantine/core";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, get, type Scan } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { plural } from "../../parts/words";
import type { StreamFacts } from "./types";

/** Keep the plan that stands running: on this stream, or on its family with whatever joins it. */
export function KeepWatch({ scan, stream }: { scan: Scan; stream: StreamFacts }) {
  const client = useQueryClient();
  const [made, setMade] = useState<number | null>(null);
  const { error, isBusy, attempt } = useAttempt();
  const keep = (isFamily: boolean) =>
    attempt(async () => {
      const lookout = await get(
        api.POST("/api/v1/lookouts", {
          body: {
            name: isFamily ? stream.metric : `${stream.metric} ${stream.title}`,
            plan: scan.plan_text,
            scope: isFamily ? { metric: stream.metric } : { streams: [stream.id] },
          } as never,
        }),
      );
      setMade(lookout.id);
      await client.invalidateQueries({ queryKey: ["lookouts"] });
    });
  return (
    <section aria-label="Keep watch">
      <h2>Keep watch</h2>
      {made === null ? (
        <>
          <p className="small tight">
            Judge what comes from now on by this plan, as a replay does: each sample by its past.
          </p>
          <Group gap="6px 18px">
            <Button disabled={isBusy} onClick={() => void keep(false)}>
              On this stream
            </Button>
            {stream.family.length > 1 && (
              <Button disabled={isBusy} onClick={() => void keep(true)}>
                On all {plural(stream.family.length, "stream")} of {stream.metric}
              </Button>
            )}
          </Group>
        </>
      ) : (
        <p className="small" role="status">
          It keeps watch: <Link to={`/lookouts/${made}`}>its lookout</Link> says where each stream stands.
        </p>
      )}
      {error !== null && <Trouble error={error} />}
    </section>
  );
}
