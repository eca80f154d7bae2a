import { Button } from "@mantine/core";
import { Problem } from "../api/client";

/** What went wrong, and what to do. */
export function Trouble({ error, retry }: { error: unknown; retry?: () => void }) {
  const problem = error instanceof Problem ? error : null;
  return (
    <div className="alarm" role="alert">
      <strong>{problem ? problem.title : "The server cannot be reached"}</strong>
      {problem?.place ? <span className="soft"> · {problem.place}</span> : null}
      <div>{problem ? problem.remedy : "Check the connection; the page tries again by itself."}</div>
      {retry && <Button onClick={retry}>Try again</Button>}
    </div>
  );
}

export function Waiting({ what }: { what: string }) {
  return (
    <p className="soft padded" role="status">
      {what}
    </p>
  );
}
