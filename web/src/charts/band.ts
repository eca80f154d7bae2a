import type { Drawn } from "./shapes";

type Band = Pick<Drawn, "expected" | "spread" | "edges">;

/** The value at which a level is reached on one side of what is expected, or null where nothing is expected.
 *
 * A symmetrical law has it at expected ± level × spread. Counts are skewed: the server gives the values at three levels,
 * and the quadratic through them holds between.
 */
export function edgeAt(view: Band, i: number, side: 1 | -1, level: number): number | null {
  const { edges } = view;
  const rows = side > 0 ? edges?.upper : edges?.lower;
  // For each of some thousand samples of a drawing: nothing is made that need not be.
  const [v0, v1, v2] = [rows?.[0]?.[i] ?? null, rows?.[1]?.[i] ?? null, rows?.[2]?.[i] ?? null];
  if (edges && v0 !== null && v1 !== null && v2 !== null) {
    const [l0, l1, l2] = edges.levels as [number, number, number];
    return (
      (v0 * (level - l1) * (level - l2)) / ((l0 - l1) * (l0 - l2)) +
      (v1 * (level - l0) * (level - l2)) / ((l1 - l0) * (l1 - l2)) +
      (v2 * (level - l0) * (level - l1)) / ((l2 - l0) * (l2 - l1))
    );
  }
  const expected = view.expected?.[i];
  const spread = view.spread?.[i];
  if (expected === null || expected === undefined || spread === null || spread === undefined) return null;
  return expected + side * level * spread;
}
