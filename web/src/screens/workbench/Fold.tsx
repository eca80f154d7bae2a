import { Box } from "@mantine/core";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, get } from "../../api/client";
import { GUTTER } from "../../charts/paneOptions";
import { Trouble } from "../../parts/ask";
import { SelectField } from "../../parts/Field";
import { hours } from "../../parts/words";
import { FoldPicture } from "./FoldPicture";
import type { StreamFacts } from "./types";

const DAY = 86_400_000;

/** All seasons over one another: the one in the middle of the view strong, the same weekday paler, the rest faint. */
export function Fold({
  stream,
  scanId,
  seasons,
  at,
}: {
  stream: StreamFacts;
  scanId: number;
  seasons: number[];
  at: number;
}) {
  const [chosen, setChosen] = useState<number | null>(null);
  const season = chosen ?? seasons[0] ?? 24;
  // The day in sight is enough: a new one asks anew, a little panning does not.
  const moment = Math.floor(at / DAY) * DAY + DAY / 2;
  const fold = useQuery({
    queryKey: ["fold", scanId, stream.id, season, moment],
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) =>
      get(
        api.GET("/api/v1/scans/{id}/streams/{stream}/fold", {
          params: { path: { id: scanId, stream: stream.id }, query: { hours: season, at: moment } },
          signal,
        }),
      ),
  });
  const choices = [...new Set([...seasons, 24, 168])].sort((a, b) => a - b);
  return (
    <Box mt={4} mr={GUTTER}>
      <label className="small">
        Season of{" "}
        <SelectField className="word" value={season} onChange={(e) => setChosen(Number(e.target.value))}>
          {choices.map((h) => (
            <option key={h} value={h}>
              {hours(h)}
            </option>
          ))}
        </SelectField>
      </label>
      {fold.isError && <Trouble error={fold.error} retry={() => fold.refetch()} />}
      {fold.data && <FoldPicture fold={fold.data} stream={stream} />}
    </Box>
  );
}
