import { useMutation } from "@tanstack/react-query";

// biome-ignore lint/suspicious/noConfusingVoidType: what has nothing to report returns nothing
type Work = () => Promise<string | void>;

/** Do something that may be refused: what it reports, what went wrong, and whether it is still being done. The one way in
 * which the page changes anything. */
export function useAttempt() {
  const { data, error, isPending, mutateAsync, reset } = useMutation({
    mutationFn: (work: Work) => work(),
    // Without a connection it fails and says so, instead of waiting unseen.
    networkMode: "always",
  });
  const attempt = (work: Work): Promise<boolean> =>
    mutateAsync(work).then(
      () => true,
      () => false,
    );
  return { report: data ?? "", error: error as unknown, isBusy: isPending, attempt, forget: reset };
}
