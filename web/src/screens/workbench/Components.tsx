import { UnstyledButton } from "@mantine/core";
import { useMemo } from "react";
import { TimePane } from "../../charts/TimePane";
import { hours } from "../../parts/words";
import type { PaneProps, StackProps } from "./types";

/** Trend, seasons and remainder, a pane each. */
export function Components({ view, hasParts, setParts, pane }: StackProps & { pane: PaneProps }) {
  const parts = useMemo(() => {
    if (!hasParts || !view.trend) return [];
    const remainder = view.value.map((v, i) =>
      v === null || view.expected?.[i] == null ? null : v - (view.expected[i] ?? 0),
    );
    return [
      { name: "trend", data: view.trend },
      ...(view.seasons ?? []).map((data, i) => ({
        name: `season ${hours(view.season_hours?.[i] ?? 0)}`,
        data,
      })),
      { name: "remainder", data: remainder },
    ].map((p) => ({ ...p, lines: [{ data: p.data, stroke: "ink" as const, width: 1.1 }] }));
  }, [hasParts, view]);
  const names = ["trend", ...(view.season_hours ?? []).map((h) => hours(h)), "remainder"].join(", ");
  return (
    <>
      <div className="fold">
        <UnstyledButton aria-expanded={hasParts} onClick={() => setParts(!hasParts)}>
          {hasParts ? "▾" : "▸"} Components
        </UnstyledButton>
        <span className="soft small">{names}; they add up to what was seen</span>
      </div>
      {parts.map((p) => (
        <div className="pane" key={p.name} style={{ marginTop: 6 }}>
          <span className="pane-label">{p.name}</span>
          <TimePane {...pane} lines={p.lines} height={84} hasTimeAxis={false} label={p.name} />
          <span />
        </div>
      ))}
    </>
  );
}
