import { useCallback, useRef, useState } from "react";
import type { Around, Edges } from "./types";
import type { Item } from "./words";

/** The span that a verdict is over: as it was found, or as somebody has moved its edges, cut it, or joined the next finding. */
export function useEdges(item: Item | null | undefined) {
  const [edges, setEdges] = useState<Edges | null>(null);
  const around = useRef<Around>({ moved: (at) => at, nextEnd: () => null });
  const reset = useCallback(
    (next: Item | null) => setEdges(next && { start: next.start, end: next.end, cut: null }),
    [],
  );
  const move = (edge: "start" | "end" | "cut", by: number) =>
    setEdges((old) => {
      if (!old) return old;
      const at = around.current.moved(old[edge] ?? old.start, by);
      if (edge === "start") return at <= old.end ? { ...old, start: at, cut: null } : old;
      if (edge === "end") return at >= old.start ? { ...old, end: at, cut: null } : old;
      return old.cut !== null && at > old.start && at <= old.end ? { ...old, cut: at } : old;
    });
  const cut = () =>
    setEdges((old) => {
      if (!old || !item || old.cut !== null) return old && { ...old, cut: null };
      const steps = Math.round((old.end - old.start) / (item.step_s * 1000));
      return steps < 1 ? old : { ...old, cut: around.current.moved(old.start, Math.ceil(steps / 2)) };
    });
  const merge = () =>
    setEdges((old) => {
      const end = old && around.current.nextEnd(old.end);
      return old && end ? { ...old, end, cut: null } : old;
    });
  return { edges, around, reset, move, cut, merge };
}
