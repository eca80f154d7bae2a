import { useInfiniteQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Entry, get, type Verdict } from "../../api/client";
import { useAddress, withNames } from "../../parts/address";
import { useAttempt } from "../../parts/attempt";
import { plural } from "../../parts/words";

/** What of the logbook is on show. */
export interface Filter {
  verdict?: Verdict;
  text?: string;
  from?: number;
  to?: number;
}

/** The entries that fit, what was just done with them, and the way back from it. */
export function useLogbook() {
  const client = useQueryClient();
  const [params, setAddress] = useAddress();
  const [undo, setUndo] = useState<number | null>(null);
  const [gone, setGone] = useState<Entry | null>(null);
  const { report, error, attempt } = useAttempt();
  const filter: Filter = {
    verdict: (params.get("verdict") as Verdict | null) || undefined,
    text: params.get("text") || undefined,
    from: Number(params.get("from")) || undefined,
    to: Number(params.get("to")) || undefined,
  };
  const entries = useInfiniteQuery({
    queryKey: ["logbook", filter],
    queryFn: ({ pageParam }) =>
      get(api.GET("/api/v1/logbook", { params: { query: { ...filter, cursor: pageParam || undefined } } })),
    initialPageParam: "",
    getNextPageParam: (page) => page.next,
  });
  const narrow = (changes: Record<string, string | number | null>) =>
    setAddress((old) => withNames(old, changes), { replace: true });
  const fresh = () => client.invalidateQueries({ queryKey: ["logbook"] });
  const doing = async (work: () => Promise<string>) => {
    setUndo(null);
    setGone(null);
    await attempt(work);
    void fresh();
  };
  /** What another part has done, and by which number it is undone. */
  const done = (words: string, changes: number | null) =>
    void doing(async () => words).then(() => setUndo(changes));
  const undoAll = (id: number) =>
    doing(async () => {
      const { undone, left } = await get(
        api.POST("/api/v1/logbook/changes/{id}/undo", { params: { path: { id } } }),
      );
      return `Undone for ${plural(undone, "entry", "entries")}${left ? `; ${left} were changed again since and stay as they are` : ""}.`;
    });
  const remove = (entry: Entry) =>
    doing(async () => {
      await api.DELETE("/api/v1/logbook/{id}", { params: { path: { id: entry.id } } });
      return "Entry taken out; its history is kept.";
    }).then(() => setGone(entry));
  const restore = (entry: Entry) =>
    doing(async () => {
      await api.POST("/api/v1/logbook/{id}/restore", { params: { path: { id: entry.id } } });
      return "Put back.";
    });
  return { filter, narrow, entries, report, error, undo, gone, fresh, done, undoAll, remove, restore };
}
