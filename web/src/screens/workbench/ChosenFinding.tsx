import { Button } from "@mantine/core";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Finding, get } from "../../api/client";
import { logbookChanged } from "../../api/hints";
import { useKeys } from "../../keys/useKeys";
import { Trouble } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { type Judgement, VERDICTS, Verdicts, verdictKeys } from "../../parts/Verdicts";
import { figure } from "../../parts/words";
import { Explain } from "./Explain";

/** What a finding is, what stands behind it, and the verdict, in place and to be taken back. */
export function ChosenFinding({ finding }: { finding: Finding }) {
  const client = useQueryClient();
  const { report, error, isBusy, attempt } = useAttempt();
  const [last, setLast] = useState<number | null>(null);
  const doing = async (work: () => Promise<string>) => {
    await attempt(work);
    logbookChanged(client);
  };
  const judge = (verdict: Judgement, words: string) =>
    doing(async () => {
      const entry = await get(
        api.POST("/api/v1/findings/{id}/verdict", {
          params: { path: { id: finding.id } },
          body: { verdict },
        }),
      );
      setLast(entry.id);
      return `${words}: written into the logbook over the finding's span.`;
    });
  const undo = () =>
    last !== null &&
    doing(async () => {
      await api.DELETE("/api/v1/logbook/{id}", { params: { path: { id: last } } });
      setLast(null);
      return "Taken back.";
    });
  useKeys({
    ...verdictKeys((choice) => void judge(choice.verdict, choice.words), VERDICTS),
    z: () => void undo(),
  });
  return (
    <div className="chosen-finding">
      <p className="small">
        {finding.kind === "shift" ? (
          <>
            The level went {finding.direction} by <strong>{figure(finding.size)}</strong> {finding.unit}.
          </>
        ) : (
          <>
            <strong>
              {figure(finding.peak_value)} {finding.unit}
            </strong>{" "}
            seen at its peak, <strong>{figure(finding.expected)}</strong> expected.
          </>
        )}
      </p>
      <h3>What was it?</h3>
      <Verdicts
        choices={VERDICTS}
        judge={(choice) => void judge(choice.verdict, choice.words)}
        isOff={isBusy}
      />
      <p className="small" role="status">
        {report}{" "}
        {last !== null && (
          <Button onClick={() => void undo()} disabled={isBusy}>
            Take it back
          </Button>
        )}
      </p>
      {error !== null && <Trouble error={error} />}
      {/* Below what is pressed: it comes later, and would move that away under the hand. */}
      <Explain finding={finding.id} zone={finding.zone} />
    </div>
  );
}
