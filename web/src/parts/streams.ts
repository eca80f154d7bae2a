import { useDebouncedValue } from "@mantine/hooks";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, get, type TideRow } from "../api/client";

/** While somebody types, the server is not asked at every letter. */
export const TYPING_MS = 150;

interface Wish {
  /** How many are wanted. */
  count: number;
  sort?: "name" | "strongest";
  /** Only once somebody reaches for a list. */
  isAsked?: boolean;
}

/** The first streams that have all these words, each with its standing scan, as the tide table has them. */
export function useStreams(text: string, { count, sort = "name", isAsked = true }: Wish) {
  const [filter] = useDebouncedValue(text, TYPING_MS);
  const query = { filter, sort, count, by_family: sort === "name" };
  return useQuery({
    queryKey: ["tide", "like", query],
    enabled: isAsked,
    queryFn: () => get(api.GET("/api/v1/tide/rows", { params: { query } })),
    placeholderData: keepPreviousData,
    // Until the answer to what is typed has come, nothing else is offered: who is quick would take it.
    select: (found) => ({ ...found, rows: found.rows.filter((row) => hasWords(row, text)) }),
  });
}

/** Whether a stream has all these words, as the server looks for them. */
function hasWords(row: TideRow, text: string): boolean {
  const owner = row.owner && `owner=${row.owner}`;
  const hay = `${row.metric} ${row.title} ${row.state} ${row.attributes} ${owner}`.toLowerCase();
  return text
    .toLowerCase()
    .split(/\s+/)
    .every((word) => hay.includes(word));
}

/** The streams of these numbers. */
export function useStreamsOf(ids: number[]) {
  return useQuery({
    queryKey: ["tide", "of", ids],
    enabled: ids.length > 0,
    queryFn: () => get(api.GET("/api/v1/tide/rows", { params: { query: { streams: ids.join(",") } } })),
    placeholderData: keepPreviousData,
  });
}

/** The metrics there are, by name. */
export function useMetrics() {
  return useQuery({
    queryKey: ["tide", "metrics"],
    queryFn: () => get(api.GET("/api/v1/tide", { params: { query: { rows: false, sort: "name" } } })),
    select: (head) => head.families.map((family) => family.metric),
  });
}
