import { useQueries } from "@tanstack/react-query";
import { useMemo } from "react";
import { api, get, type TideRow } from "../../api/client";
import { ribbonsOf } from "../../charts/ribbons";
import type { Line } from "./caps";

/** Rows whose ribbons are fetched in one go. */
const BLOCK = 96;

/** The ribbons of the lines from first to last, fetched as they come into sight and kept until their scan is another. */
export function useRibbons(lines: Line[], first: number, last: number): Map<number, Int8Array> {
  const from = Math.floor(Math.max(first, 0) / BLOCK);
  const count = last < first ? 0 : Math.floor(last / BLOCK) - from + 1;
  const blocks = useMemo(
    () =>
      Array.from({ length: count }, (_, i) =>
        wanted(lines.slice((from + i) * BLOCK, (from + i + 1) * BLOCK)),
      ),
    [lines, from, count],
  );
  return useQueries({
    queries: blocks.map((rows) => ({
      queryKey: ["ribbons", rows.map((r) => `${r.id} ${r.scan} ${r.ribbon_to}`)],
      queryFn: async () =>
        ribbonsOf(
          (await get(
            api.GET("/api/v1/tide/ribbons", {
              params: { query: { streams: rows.map((r) => r.id).join(",") } },
              parseAs: "arrayBuffer",
            }),
          )) as unknown as ArrayBuffer,
        ),
      enabled: rows.length > 0,
      staleTime: Number.POSITIVE_INFINITY,
    })),
    combine: joined,
  });
}

function wanted(lines: Line[]): TideRow[] {
  return lines.flatMap((l) => (l.kind === "stream" && l.row.ribbon_from !== null ? [l.row] : []));
}

function joined(found: { data?: Map<number, Int8Array> | undefined }[]): Map<number, Int8Array> {
  return new Map(found.flatMap((f) => [...(f.data ?? [])]));
}
