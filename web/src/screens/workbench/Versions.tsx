import { Button } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, get, list, type Scan, type Schema } from "../../api/client";
import { Trouble, Waiting } from "../../parts/ask";
import { dayTime, plural } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import type { PlanData } from "./plan";

/** Lines that stay the same are shown so far around a change. */
const AROUND = 1;

/** All versions of the plan on show, newest first, with what each changed; any can be taken up again. */
export function Versions({ scan, onTake }: { scan: Scan; onTake: (plan: PlanData) => void }) {
  const [problem, setProblem] = useState<unknown>(null);
  const told = useQuery({
    queryKey: ["versions", scan.plan_id, scan.version],
    queryFn: () => list(api.GET("/api/v1/plans/{id}/versions", { params: { path: { id: scan.plan_id } } })),
  });
  if (told.isPending) return <Waiting what="Reading the versions" />;
  if (told.isError) return <Trouble error={told.error} retry={() => told.refetch()} />;
  const take = async (text: string) => {
    setProblem(null);
    try {
      const got = await get(api.POST("/api/v1/plans/check", { body: { text } }));
      onTake(got.plan as unknown as PlanData);
    } catch (error) {
      setProblem(error);
    }
  };
  return (
    <section aria-label={`Versions of ${scan.plan}`} className="versions">
      {problem != null && <Trouble error={problem} />}
      <ol>
        {told.data.map((v) => (
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
            <Changes lines={v.changes} />
          </li>
        ))}
      </ol>
    </section>
  );
}

const SIGN: Record<string, string> = { added: "+", removed: "−", same: " " };

function Changes({ lines }: { lines: Schema["ChangedLine"][] }) {
  const near = nearChanges(lines);
  if (!lines.length) return <p className="soft small">The first.</p>;
  if (!near.length) return <p className="soft small">Nothing changed.</p>;
  return (
    <pre className="changes">
      {near.map((line, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: lines have no other name
        <span key={i} className={line.kind}>
          {SIGN[line.kind]} {line.text}
          {"\n"}
        </span>
      ))}
    </pre>
  );
}

/** Lines that changed, with their neighbours. */
export function nearChanges<T extends { kind: string }>(lines: T[]): T[] {
  return lines.filter((_, i) =>
    lines.slice(Math.max(0, i - AROUND), i + AROUND + 1).some((l) => l.kind !== "same"),
  );
}
