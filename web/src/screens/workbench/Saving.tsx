import { Box, Button } from "@mantine/core";
import { Link } from "react-router";
import { queryOf } from "../../api/client";
import { UNDER_PLOT } from "../../charts/paneOptions";
import { pngOf, save, svgOf } from "../../charts/picture";
import type { tickWords } from "../../charts/ticks";
import { AddToBoard } from "../boards/AddToBoard";
import { spanHours } from "./spans";
import type { StackProps } from "./types";

/** The picture with its title, units and source, and its samples as the command line writes them. */
export function Saving({
  stream,
  view,
  range,
  levels,
  source,
  words,
  scanId,
}: StackProps & { words: ReturnType<typeof tickWords>; scanId: number }) {
  const name = `${stream.metric}-${stream.title}`.replace(/[^\p{L}\p{N}]+/gu, "-");
  const picture = () =>
    svgOf(
      view,
      range,
      levels,
      { title: `${stream.metric}: ${stream.title}`, unit: stream.unit, zone: stream.zone, source },
      words,
    );
  return (
    <Box component="p" {...UNDER_PLOT} my={4} className="soft small">
      Save what is in sight:{" "}
      <Button onClick={() => save(`${name}.svg`, new Blob([picture()], { type: "image/svg+xml" }))}>
        SVG
      </Button>{" "}
      <Button onClick={() => void pngOf(picture()).then((b) => save(`${name}.png`, b))}>PNG</Button>{" "}
      <a
        className="act"
        download
        href={`/api/v1/scans/${scanId}/streams/${stream.id}/points.csv?${queryOf({ from: range[0], to: range[1] })}`}
      >
        CSV
      </a>{" "}
      · <Link to={`/look?stream=${stream.id}`}>The day beside those before</Link> ·{" "}
      <AddToBoard pane={{ kind: "stream", stream: stream.id, hours: spanHours(range) }} />
    </Box>
  );
}
