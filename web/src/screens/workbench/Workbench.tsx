import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { useParams } from "react-router";
import { useAddress } from "../../parts/address";
import { Trouble, Waiting } from "../../parts/ask";
import { type BenchAddress, readAddress, writeAddress } from "./address";
import { fetchAhead, streamQuery } from "./ahead";
import { Bench } from "./Bench";

export default function Workbench() {
  const id = Number(useParams().stream);
  const [params, setAddress] = useAddress();
  const stream = useQuery(streamQuery(id));
  const address = readAddress(params);
  const client = useQueryClient();
  const opened = useRef(address);
  opened.current = address;
  useEffect(() => {
    sessionStorage.setItem("last-stream", String(id));
    const { scan, range, hasParts, look } = opened.current;
    // The chart need not wait until all around it stands. The pane that shows it reports errors.
    if (!hasParts && !look.by) void fetchAhead(client, id, scan, range).catch(() => undefined);
  }, [id, client]);
  // Where one looks is a step that Back takes back; how it is looked at is none.
  const change = (changes: Partial<BenchAddress>, isStep = false) =>
    setAddress((old) => writeAddress(old, changes), { replace: !isStep });
  if (stream.isPending) return <Waiting what="Opening the stream" />;
  if (stream.isError) return <Trouble error={stream.error} retry={() => stream.refetch()} />;
  const scanId = address.scan ?? stream.data.standing_scan ?? null;
  return <Bench key={id} stream={stream.data} scanId={scanId} address={address} change={change} />;
}
