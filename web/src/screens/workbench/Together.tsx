import { Table } from "@mantine/core";
import { Link } from "react-router";
import { dayTime, figure } from "../../parts/words";
import type { ForecastData } from "./forecastWords";

/** Several streams' forecasts, a row each: where they end, how sure, and when they reach the limit. */
export function Together({ forecasts }: { forecasts: ForecastData[] }) {
  const hasLimit = forecasts.some((f) => f.limit);
  const soonest = (f: ForecastData) => f.limit?.reached_with["0.5"] ?? Number.POSITIVE_INFINITY;
  const rows = hasLimit ? [...forecasts].sort((a, b) => soonest(a) - soonest(b)) : forecasts;
  const end = forecasts[0]?.time.at(-1) ?? 0;
  const zone = forecasts[0]?.zone ?? "UTC";
  return (
    <Table className="rows">
      <Table.Thead>
        <Table.Tr>
          <Table.Th>stream</Table.Th>
          <Table.Th className="right">expected {dayTime(end, zone)}</Table.Th>
          <Table.Th className="right">interval then</Table.Th>
          {hasLimit && <Table.Th>limit reached in half of the futures</Table.Th>}
          {hasLimit && <Table.Th className="right">futures past it, of 100</Table.Th>}
        </Table.Tr>
      </Table.Thead>
      <Table.Tbody>
        {rows.map((f) => {
          const half = f.limit?.reached_with["0.5"] ?? null;
          return (
            <Table.Tr key={f.stream}>
              <Table.Td>
                <Link to={`/workbench/${f.stream}?ahead=7`}>{f.title}</Link>
              </Table.Td>
              <Table.Td className="figure">
                {figure(f.expected.at(-1))} {f.unit}
              </Table.Td>
              <Table.Td className="figure">
                {figure(f.lower.at(-1))} – {figure(f.upper.at(-1))}
              </Table.Td>
              {hasLimit && (
                <Table.Td>{half === null ? "not within this span" : dayTime(half, f.zone)}</Table.Td>
              )}
              {hasLimit && (
                <Table.Td className="figure">{figure(100 * (f.limit?.chance_by_end ?? 0), 0)}</Table.Td>
              )}
            </Table.Tr>
          );
        })}
      </Table.Tbody>
    </Table>
  );
}
