import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useRef, useState } from "react";
import { api, get } from "../../api/client";
import type { Choice } from "../../parts/Verdicts";
import { plural } from "../../parts/words";
import { useEdges } from "./useEdges";
import type { Item } from "./words";

/** A key pressed again sooner than this slipped. */
const SLIP_MS = 250;

/** One round: the item on show, what is written about it, and each step from one to the next. */
export function useRound(round: number) {
  const client = useQueryClient();
  const [item, setItem] = useState<Item | null | undefined>(undefined);
  const [cause, setCause] = useState("");
  const [note, setNote] = useState("");
  const [isForRest, setForRest] = useState(false);
  const [report, setReport] = useState("");
  const [error, setError] = useState<unknown>(null);
  const [isBusy, setBusy] = useState(false);
  const { edges, around, reset, move, cut, merge } = useEdges(item);
  const busy = useRef(0);
  // The verdict given while the next item was still on its way.
  const waiting = useRef<Choice | null>(null);
  const state = useQuery({
    queryKey: ["rounds", round],
    queryFn: () => get(api.GET("/api/v1/rounds/{id}", { params: { path: { id: round } } })),
  });

  const show = useCallback(
    (next: Item | null) => {
      setItem(next);
      reset(next);
      setCause("");
      setNote("");
      setForRest(false);
    },
    [reset],
  );
  /** One step at a time. */
  const step = useCallback(
    async (work: () => Promise<Item | null>) => {
      if (busy.current) return;
      busy.current = Date.now();
      setBusy(true);
      setError(null);
      try {
        show(await work());
        void client.invalidateQueries({ queryKey: ["rounds"] });
      } catch (problem) {
        waiting.current = null;
        setError(problem);
      } finally {
        busy.current = 0;
        setBusy(false);
      }
    },
    [client, show],
  );
  const next = useCallback(
    async (skip?: number) => {
      const answer = await get(
        api.POST("/api/v1/rounds/{id}/next", {
          params: { path: { id: round } },
          body: skip ? { skip } : {},
        }),
      );
      return answer.item;
    },
    [round],
  );
  useEffect(() => {
    void step(() => next());
  }, [step, next]);

  const judge = (choice: Choice) => {
    if (busy.current) {
      if (Date.now() - busy.current > SLIP_MS) waiting.current = choice;
      return;
    }
    if (!item || !edges) return;
    void step(async () => {
      const written = await get(
        api.POST("/api/v1/rounds/{id}/items/{item}/verdict", {
          params: { path: { id: round, item: item.id } },
          body: {
            verdict: choice.verdict,
            cause,
            note,
            rest: isForRest,
            ...(edges.start !== item.start ? { start: edges.start } : {}),
            ...(edges.end !== item.end ? { end: edges.end } : {}),
            ...(edges.cut !== null ? { split: edges.cut } : {}),
          },
        }),
      );
      const also = written.also ? `, and ${plural(written.also, "other")} of the incident` : "";
      setReport(`${choice.words}: ${item.title}${also}.`);
      return next();
    });
  };
  const latest = useRef(judge);
  latest.current = judge;
  // biome-ignore lint/correctness/useExhaustiveDependencies: once the next item is there
  useEffect(() => {
    const choice = waiting.current;
    waiting.current = null;
    if (choice && item) latest.current(choice);
  }, [item?.id]);
  const undo = () =>
    step(async () => {
      const back = await get(api.POST("/api/v1/rounds/{id}/undo", { params: { path: { id: round } } }));
      setReport("Taken back.");
      return back.item;
    });
  const skip = () => item && void step(() => next(item.id));
  const lookedThrough = () =>
    item &&
    edges &&
    step(async () => {
      await api.POST("/api/v1/logbook", {
        body: { scope: item.scope, start: edges.start, end: edges.end, verdict: "reviewed" },
      });
      setReport("This span is put down as looked through in full; the logbook can take it out.");
      return item;
    });
  return {
    state, item, edges, around, move, cut, merge, cause, setCause, note, setNote, isForRest, setForRest,
    report, error, isBusy, judge, undo, skip, lookedThrough,
  }; // biome-ignore format: what a screen of one item needs
}

export type RoundWork = ReturnType<typeof useRound>;
