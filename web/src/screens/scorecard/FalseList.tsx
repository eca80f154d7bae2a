import { Box, Button } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, get } from "../../api/client";
import { Trouble, Waiting } from "../../parts/ask";
import { FindingsList } from "../../parts/FindingsList";
import { counted } from "../../parts/jobs";
import { plural } from "../../parts/words";
import { ChosenFinding } from "../workbench/ChosenFinding";
import { chartLink } from "./CardBody";
import type { Part } from "./figures";

/** The findings a scorecard counts as false, as the list that stands beside a chart: each can be judged here. */
export function FalseList({ scan, part, count }: { scan: number; part: Part; count: number }) {
  const [isOpen, setOpen] = useState(false);
  const [chosen, setChosen] = useState<number | null>(null);
  const list = useQuery({
    queryKey: ["scorecard", "false", scan, part],
    enabled: isOpen,
    queryFn: () =>
      counted(() =>
        get(api.GET("/api/v1/scans/{id}/scorecard/false", { params: { path: { id: scan }, query: part } })),
      ),
  });
  if (!isOpen)
    return (
      <Box component="p" display="block">
        <Button onClick={() => setOpen(true)}>List and judge all {plural(count, "false finding")}</Button>
      </Box>
    );
  if (list.isPending) return <Waiting what="Finding them" />;
  if (list.isError) return <Trouble error={list.error} retry={() => list.refetch()} />;
  const open = list.data.items.find((f) => f.id === chosen);
  return (
    <FindingsList
      findings={list.data.items}
      chosen={chosen}
      choose={(f) => setChosen(f.id === chosen ? null : f.id)}
      badSide="both"
      hasStreams
    >
      {open && (
        <>
          <Link to={chartLink(open.stream, scan, open.start, open.end)} className="act">
            Open its chart
          </Link>
          <ChosenFinding key={open.id} finding={open} />
        </>
      )}
    </FindingsList>
  );
}
