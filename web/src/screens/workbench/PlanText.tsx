import { Button, Stack } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, get, Problem } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { AreaField } from "../../parts/Field";
import type { PlanData } from "./plan";

/** The plan as a text file, both ways; an error stands at its line. */
export function PlanText({ plan, onChange }: { plan: PlanData; onChange: (plan: PlanData) => void }) {
  const written = useQuery({
    queryKey: ["plan-text", JSON.stringify(plan)],
    queryFn: () => get(api.POST("/api/v1/plans/check", { body: { text: JSON.stringify(plan) } })),
  });
  const [text, setText] = useState("");
  const { error: refused, attempt } = useAttempt();
  const error = refused instanceof Problem ? refused : null;
  const canonical = written.data?.text;
  useEffect(() => {
    if (canonical !== undefined) setText(canonical);
  }, [canonical]);
  const take = () =>
    attempt(async () => {
      const read = await get(api.POST("/api/v1/plans/check", { body: { text } }));
      onChange(read.plan as unknown as PlanData);
    });
  return (
    <div>
      <label>
        <span className="soft small">The same plan as text</span>
        <AreaField
          className="yaml"
          spellCheck={false}
          value={text}
          aria-invalid={error !== null}
          onChange={(e) => setText(e.target.value)}
        />
      </label>
      {refused !== null && error === null && <Trouble error={refused} />}
      {error && (
        <Stack component="ul" gap={3} m="6px 0 0" pl={16} fz={13} className="notes" role="alert">
          {(error.problems.length
            ? error.problems
            : [{ place: error.place, message: error.title, line: null }]
          ).map((p) => (
            <li key={p.place + p.message}>
              {p.line ? `Line ${p.line}, ` : ""}
              {p.place}: {p.message}
            </li>
          ))}
        </Stack>
      )}
      <Button disabled={text === canonical} onClick={() => void take()}>
        Take this text
      </Button>
    </div>
  );
}
