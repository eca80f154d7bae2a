import { Box, UnstyledButton } from "@mantine/core";
import { useQueryClient } from "@tanstack/react-query";
import { useContext } from "react";
import { api, type Finding } from "../api/client";
import { useAttempt } from "./attempt";
import { PersonName } from "./person";

/** Whom a finding is assigned to; take it on, or give it back. */
export function Taking({ finding }: { finding: Finding }) {
  const client = useQueryClient();
  const { error, attempt } = useAttempt();
  const me = useContext(PersonName);
  const isMine = finding.taken_by !== "" && finding.taken_by === me;
  const assign = (take: boolean) =>
    attempt(async () => {
      await api.POST("/api/v1/findings/{id}/take", { params: { path: { id: finding.id } }, body: { take } });
      await client.invalidateQueries();
    });
  if (error !== null)
    return (
      <Box component="span" flex="none" className="small" role="alert">
        {error instanceof Error ? error.message : "it could not be taken; try again"}
      </Box>
    );
  if (finding.taken_by && !isMine)
    return (
      <Box component="span" flex="none" className="soft small">
        assigned to {finding.taken_by}
      </Box>
    );
  return (
    <UnstyledButton
      flex="none"
      className="word small"
      aria-label={`${isMine ? "Give back" : "Assign to me"} the finding of ${finding.metric} ${finding.title}`}
      onClick={() => void assign(!isMine)}
    >
      {isMine ? "yours · give back" : "assign to me"}
    </UnstyledButton>
  );
}
