import { UnstyledButton } from "@mantine/core";
import { useQueryClient } from "@tanstack/react-query";
import { useContext, useState } from "react";
import { api, type Finding, get } from "../api/client";
import { PersonName } from "./person";

/** Whom a finding is assigned to; take it on, or give it back. */
export function Taking({ finding }: { finding: Finding }) {
  const client = useQueryClient();
  const [problem, setProblem] = useState("");
  const me = useContext(PersonName);
  const isMine = finding.taken_by !== "" && finding.taken_by === me;
  const ask = async (take: boolean) => {
    try {
      await get(
        api.POST("/api/v1/findings/{id}/take", { params: { path: { id: finding.id } }, body: { take } }),
      );
      setProblem("");
      await client.invalidateQueries();
    } catch (error) {
      setProblem(error instanceof Error ? error.message : "it could not be taken; try again");
    }
  };
  if (problem)
    return (
      <span className="small taking" role="alert">
        {problem}
      </span>
    );
  if (finding.taken_by && !isMine)
    return <span className="soft small taking">assigned to {finding.taken_by}</span>;
  return (
    <UnstyledButton
      className="word small taking"
      aria-label={`${isMine ? "Give back" : "Assign to me"} the finding of ${finding.metric} ${finding.title}`}
      onClick={() => void ask(!isMine)}
    >
      {isMine ? "yours · give back" : "assign to me"}
    </UnstyledButton>
  );
}
