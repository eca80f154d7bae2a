import { useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { useParams } from "react-router";
import { useAddress } from "../../parts/address";
import { Trouble, Waiting } from "../../parts/ask";
import { type BenchAddress, readAddress, writeAddress } from "./address";
import { streamQuery } from "./ahead";
import { Bench } from "./Bench";
import "./workbench.css";

export default function Workbench() {
  const id = Number(useParams().stream);
  const [params, setAddress] = useAddress();
  const stream = useQuery(streamQuery(id));
  useEffect(() => sessionStorage.setItem("last-stream", String(id)), [id]);
  const address = readAddress(params);
  // Where one looks is a step that Back takes back; how it is looked at is none.
  const change = (changes: Partial<BenchAddress>, isStep = false) =>
    setAddress((old) => writeAddress(old, changes), { replace: !isStep });
  if (stream.isPending) return <Waiting what="Opening the stream" />;
  if (stream.isError) return <Trouble error={stream.error} retry={() => stream.refetch()} />;
  const scanId = address.scan ?? stream.data.standing_scan ?? null;
  return <Bench key={id} stream={stream.data} scanId={scanId} address={address} change={change} />;
}
