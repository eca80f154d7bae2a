import { Button } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { api, get, list, type Scan } from "../../api/client";
import { Trouble, Waiting } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { dayTime, plural } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { Changes } from "./Changes";
import type { PlanData } from "./plan";

/** All versions of the plan on show, newest first, with what each changed; any can be taken up again. */
export function Versions({ scan, onTake }: { scan: Scan; onTake: (plan: PlanData) => void }) {
  const { error, attempt } = useAttempt();
  const versions = useQuery({
    queryKey: ["versions", scan.plan_id, scan.version],
    queryFn: () => list(api.GET("/api/v1/plans/{id}/versions", { params: { path: { id: scan.plan_id } } })),
  });
  if (versions.isPending) return <Waiting what="Reading the versions" />;
  if (versions.isError) return <Trouble error={versions.error} retry={() => versions.refetch()} />;
  const take = (text: string) =>
    attempt(async () => {
      const got = await get(api.POST("/api/v1/plans/check", { body: { text } }));
      onTake(got.plan as unknown as PlanData);
    });
  return (
    <section aria-label={`Versions of ${scan.plan}`} className="versions">
      {error !== null && <Trouble error={error} />}
      <ol>
        {versions.data.map((v) => (
          <li key={v.id} aria-current={v.number === scan.version || undefined}>
            <p>
              <strong>v{v.number}</strong>{" "}
              <span className="soft small">
                {dayTime(v.created_at, fleetZone())}
                {v.author && ` by ${v.author}`}, {plural(v.scans, "scan")},{" "}
                {v.stands_for ? `stands for ${plural(v.stands_for, "stream")}` : "stands for none"}
              </span>{" "}
              {v.number !== scan.version && (
                <Button onClick={() => void take(v.text)}>Take v{v.number} up</Button>
              )}
            </p>
            {v.changes.length ? <Changes lines={v.changes} /> : <p className="soft small">The first.</p>}
          </li>
        ))}
      </ol>
    </section>
  );
}
