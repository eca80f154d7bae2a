import { useState } from "react";

/** Do something that may be refused: what it reports, what went wrong, and whether it is still being done. */
export function useAttempt() {
  const [report, setReport] = useState("");
  const [error, setError] = useState<unknown>(null);
  const [isBusy, setBusy] = useState(false);
  const attempt = async (work: () => Promise<string>) => {
    setError(null);
    setReport("");
    setBusy(true);
    try {
      setReport(await work());
      return true;
    } catch (problem) {
      setError(problem);
      return false;
    } finally {
      setBusy(false);
    }
  };
  return { report, error, isBusy, attempt };
}
