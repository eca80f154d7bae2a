import { useQueries } from "@tanstack/react-query";
import { useMemo } from "react";
import { api, get, type TideRow } from "../../api/client";
import { ribbonsOf } from "../../charts/ribbons";
import type { Way } from "./caps";

/** Rows that are fetched in one go. */
const BLOCK = 96;

/** What is known of the rows in sight, by their place in the order: the row, and its ribbon once that has come. */
export interface Known {
  row: TideRow;
  bins?: Int8Array | undefined;
}

/** The rows from first to last of an order, fetched as they come into sight; their ribbons are kept until their scan is another. */
export function useWindow(way: Way, first: number, last: number): Map<number, Known> {
  const from = Math.floor(Math.max(first, 0) / BLOCK);
  const blocks = last < first ? [] : range(from, Math.floor(last / BLOCK));
  const rows = useQueries({
    queries: blocks.map((block) => {
      const query = { ...way, skip: block * BLOCK, count: BLOCK };
      return {
        queryKey: ["tide", "rows", query],
        queryFn: () => get(api.GET("/api/v1/tide/rows", { params: { query } })),
      };
    }),
    combine: (found) => found.map((f) => f.data?.rows ?? NONE),
  });
  const ribbons = useQueries({
    queries: rows.map((block) => {
      const scanned = block.filter((row) => row.ribbon_from !== null);
      return {
        queryKey: ["ribbons", scanned.map((r) => `${r.id} ${r.scan} ${r.ribbon_to}`)],
        queryFn: async () =>
          ribbonsOf(
            (await get(
              api.GET("/api/v1/tide/ribbons", {
                params: { query: { streams: scanned.map((r) => r.id).join(",") } },
                parseAs: "arrayBuffer",
              }),
            )) as unknown as ArrayBuffer,
          ),
        enabled: scanned.length > 0,
        staleTime: Number.POSITIVE_INFINITY,
      };
    }),
    combine: joined,
  });
  return useMemo(
    () =>
      new Map(
        rows.flatMap((block, b) =>
          block.map((row, i) => [(from + b) * BLOCK + i, { row, bins: ribbons.get(row.id) }] as const),
        ),
      ),
    [rows, ribbons, from],
  );
}

const NONE: TideRow[] = [];

function range(from: number, to: number): number[] {
  return Array.from({ length: to - from + 1 }, (_, i) => from + i);
}

function joined(found: { data?: Map<number, Int8Array> | undefined }[]): Map<number, Int8Array> {
  return new Map(found.flatMap((f) => [...(f.data ?? [])]));
}
