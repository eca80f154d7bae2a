import { useQueryClient } from "@tanstack/react-query";
import { useAttempt } from "../../parts/attempt";

/** Do something that may be refused, then read again what it changes, and the trail. */
export function useChange(...keys: string[]) {
  const client = useQueryClient();
  const { error, isBusy, attempt } = useAttempt();
  const change = async (work: () => Promise<unknown>): Promise<boolean> => {
    const isDone = await attempt(async () => {
      await work();
      return "";
    });
    for (const key of [...keys, "trail"]) void client.invalidateQueries({ queryKey: [key] });
    return isDone;
  };
  return { error, isBusy, change };
}
