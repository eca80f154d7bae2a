import { useQuery } from "@tanstack/react-query";
import { api, get, type TideRow } from "../api/client";

/** Every stream with its standing scan, as the tide table has them; fetched only when somebody reaches for a list. */
export function useStreams(isAsked = true) {
  return useQuery({
    queryKey: ["tide", {}],
    enabled: isAsked,
    queryFn: () => get(api.GET("/api/v1/tide", { params: { query: { ribbons: false } } })),
  });
}

type Told = Pick<TideRow, "metric" | "title" | "attributes" | "owner"> & { state?: string };

/** Whether a stream's name, attributes, owner or state have all these words. */
export function hasWords(row: Told, text: string): boolean {
  const hay =
    `${row.metric} ${row.title} ${row.state ?? ""} ${row.attributes} ${row.owner && `owner=${row.owner}`}`.toLowerCase();
  return text
    .toLowerCase()
    .split(/\s+/)
    .every((word) => hay.includes(word));
}
