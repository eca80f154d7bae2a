import { useState } from "react";

/** Do something that may be refused: what it says, and what went wrong. */
export function useAttempt() {
  const [told, setTold] = useState("");
  const [error, setError] = useState<unknown>(null);
  const attempt = async (work: () => Promise<string>) => {
    setError(null);
    setTold("");
    try {
      setTold(await work());
      return true;
    } catch (problem) {
      setError(problem);
      return false;
    }
  };
  return { told, error, attempt };
}
