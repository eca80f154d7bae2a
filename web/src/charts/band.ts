import type { Drawn } from "./shapes";

type Band = Pick<Drawn, "expected" | "spread" | "edges">;

/** The value at which a level is reached on one side of what is expected, or null where nothing is expected.
 *
 * A symmetrical law has it at expected ± level × spread. Counts are skewed: the server gives the values at three levels,
 * and the quadratic through them holds between.
 */
export function edgeAt(view: Band, i: number, side: 1 | -1, level: number): number | null {
  const { edges } = view;
  const given = (side > 0 ? edges?.upper : edges?.lower)?.map((row) => row[i]);
  if (edges && given?.length === 3 && given.every((v) => v !== null && v !== undefined)) {
    const [l0, l1, l2] = edges.levels as [number, number, number];
    const [v0, v1, v2] = given as [number, number, number];
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
