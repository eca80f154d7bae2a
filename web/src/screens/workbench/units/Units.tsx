import { Button, Group } from "@mantine/core";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, get } from "../../../api/client";
import { GUTTER } from "../../../charts/paneOptions";
import { Trouble, Waiting } from "../../../parts/ask";
import { SideBySide } from "../../../parts/SideBySide";
import { dayTime, figure } from "../../../parts/words";
import type { StreamFacts } from "../types";
import { Laid } from "./Laid";
import { OneUnit } from "./OneUnit";
import { Parting } from "./Parting";
import { type UnitsData, worstOf } from "./units";

interface Props {
  scanId: number;
  stream: StreamFacts;
  /** The level dragged to, null for that in force. */
  level: number | null;
  setLevel: (level: number) => void;
}

/** Units judged as wholes: one with what it was rebuilt as, some over one another, and how the level parts them. */
export function Units({ scanId, stream, level, setLevel }: Props) {
  const path = { id: scanId, stream: stream.id };
  const units = useQuery({
    queryKey: ["units", scanId, stream.id],
    queryFn: () => get(api.GET("/api/v1/scans/{id}/streams/{stream}/units", { params: { path } })),
  });
  const [chosen, setChosen] = useState<number | null>(null);
  const data = units.data;
  const number = data ? (chosen ?? worstOf(data)) : null;
  const worst = number === null ? [] : [number];
  const [one, laid] = [useDrawn(path, worst), useDrawn(path, data?.laid ?? [])];
  if (units.isError) return <Trouble error={units.error} retry={() => units.refetch()} />;
  for (const drawn of [one, laid])
    if (drawn.isError) return <Trouble error={drawn.error} retry={() => drawn.refetch()} />;
  if (!data || number === null || !one.data || !laid.data) return <Waiting what="Reading the units" />;
  const [shown] = one.data.units;
  return (
    <>
      <SideBySide of="minmax(0, 1fr) minmax(0, 1fr)" gap={28} mr={GUTTER}>
        <section aria-label="One unit">
          <h3>{unitWords(data, number, stream.zone)}</h3>
          {shown && <OneUnit unit={shown} name={stream.unit || "value"} />}
          <Group gap="2px 12px" mt={6}>
            <Button onClick={() => setChosen(worstOf(data))}>The worst</Button>
            <Button onClick={() => setChosen(Math.floor(Math.random() * data.score.length))}>
              A random one
            </Button>
            <Button disabled={number === 0} onClick={() => setChosen(number - 1)}>
              Earlier
            </Button>
            <Button disabled={number === data.score.length - 1} onClick={() => setChosen(number + 1)}>
              Later
            </Button>
          </Group>
        </section>
        <Laid
          units={laid.data.units}
          data={data}
          chosen={number}
          choose={setChosen}
          zone={stream.zone}
          name={stream.unit || "value"}
        />
      </SideBySide>
      <Parting data={data} level={level ?? data.level} setLevel={setLevel} />
    </>
  );
}

/** Some units with what they were rebuilt as; those of before stay until the next are here. */
function useDrawn(path: { id: number; stream: number }, numbers: number[]) {
  return useQuery({
    queryKey: ["units-drawn", path.id, path.stream, numbers.join()],
    queryFn: () =>
      get(
        api.GET("/api/v1/scans/{id}/streams/{stream}/units/drawn", {
          params: { path, query: { numbers: numbers.join() } },
        }),
      ),
    enabled: numbers.length > 0,
    placeholderData: keepPreviousData,
  });
}

function unitWords(data: UnitsData, number: number, zone: string): string {
  const score = data.score[number];
  const size = score === null || score === undefined ? "not judged" : `${figure(score, 1)} σ`;
  return `${dayTime(data.start[number] ?? 0, zone)}: ${size}, ${data.part[number]}${data.is_odd[number] ? ", an incident" : ""}`;
}
