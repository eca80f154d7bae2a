import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

/** Do something that may be refused, then read again what it changes. */
export function useChange(...keys: string[]) {
  const client = useQueryClient();
  const [error, setError] = useState<unknown>(null);
  const [isBusy, setBusy] = useState(false);
  const change = async (work: () => Promise<unknown>): Promise<boolean> => {
    setError(null);
    setBusy(true);
    try {
      await work();
      return true;
    } catch (problem) {
      setError(problem);
      return false;
    } finally {
      setBusy(false);
      for (const key of [...keys, "trail"]) void client.invalidateQueries({ queryKey: [key] });
    }
  };
  return { error, isBusy, change, forget: () => setError(null) };
}
