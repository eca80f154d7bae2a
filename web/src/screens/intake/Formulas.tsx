import { Box, Button, Table, VisuallyHidden } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import type { FormEvent } from "react";
import { Link } from "react-router";
import { api, get, list } from "../../api/client";
import { TopBar } from "../../frame";
import { Trouble } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { Field } from "../../parts/Field";
import { FormRow } from "../../parts/FormRow";
import { sure } from "../../parts/sure";
import { dayTime, plural } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { Tabs } from "./Tabs";

/** Streams made of others: ratios, differences and sums, renewed when what they read changes. */
export default function Formulas() {
  const client = useQueryClient();
  const { report, error, attempt } = useAttempt();
  const formulas = useQuery({
    queryKey: ["formulas"],
    queryFn: () => list(api.GET("/api/v1/formulas")),
    refetchInterval: 10_000,
  });
  const again = () => client.invalidateQueries({ queryKey: ["formulas"] });
  const define = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const data = new FormData(event.currentTarget);
    const text = (name: string) => String(data.get(name) ?? "").trim();
    void attempt(async () => {
      const made = await get(
        api.POST("/api/v1/formulas", {
          body: {
            metric: text("metric"),
            formula: text("formula"),
            by: text("by")
              .split(",")
              .map((w) => w.trim())
              .filter(Boolean),
            every: text("every") || null,
            unit: text("unit"),
            zone: fleetZone(),
          },
        }),
      );
      again();
      return `${text("metric")}: ${plural(made.streams, "stream")}, being computed.`;
    });
  };
  const remove = (id: number, metric: string) =>
    attempt(async () => {
      await api.DELETE("/api/v1/formulas/{id}", { params: { path: { id } } });
      again();
      return `${metric} is not computed any more; its streams stay.`;
    });
  return (
    <div className="padded">
      <TopBar>
        <h1>Intake</h1>
      </TopBar>
      <Tabs />
      <h1>Streams made of others</h1>
      <p className="soft">
        A metric in square brackets is its streams: <code>1000 * [ticket_failures] / [ticket_pages]</code>,{" "}
        <code>total of [gate_taps, fare=adult]</code>, <code>[in] - [out]</code>. Finer streams are brought to
        the coarsest cadence: counts add up, others are averaged. A ratio keeps what it divides by.
      </p>
      {report && <p role="status">{report}</p>}
      {error !== null && <Trouble error={error} />}
      <FormRow onSubmit={define} aria-label="New formula">
        <label>
          Name of the result
          <Field w="22ch" name="metric" required maxLength={180} placeholder="errors_per_mille" />
        </label>
        <label>
          Formula
          <Field w="46ch" name="formula" required placeholder="1000 * [failures] / [requests]" />
        </label>
        <label>
          One for each (attributes, by comma)
          <Field w="22ch" name="by" placeholder="channel" />
        </label>
        <label>
          Every
          <Field w="9ch" name="every" placeholder="auto" />
        </label>
        <label>
          Unit
          <Field w="9ch" name="unit" placeholder="‰" />
        </label>
        <Button type="submit" variant="filled">
          Compute
        </Button>
      </FormRow>
      {formulas.data?.length === 0 && <p className="soft">No formula yet.</p>}
      {Boolean(formulas.data?.length) && (
        <Table className="rows">
          <Table.Thead>
            <Table.Tr>
              <Table.Th>result</Table.Th>
              <Table.Th>formula</Table.Th>
              <Table.Th>one for each</Table.Th>
              <Table.Th>unit</Table.Th>
              <Table.Th>computed, {fleetZone()}</Table.Th>
              <Table.Th>
                <VisuallyHidden component="span">what to do</VisuallyHidden>
              </Table.Th>
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {formulas.data?.map((f) => (
              <Table.Tr key={f.id}>
                <Table.Td>
                  <Link className="act" to={`/intake/streams?q=${encodeURIComponent(f.metric)}`}>
                    {f.metric}
                  </Link>
                </Table.Td>
                <Table.Td>
                  <code>{f.formula}</code>
                  {f.message && (
                    <Box fw={700} className="above small">
                      {f.message}
                    </Box>
                  )}
                </Table.Td>
                <Table.Td>{f.by?.join(", ") || <span className="soft">one in all</span>}</Table.Td>
                <Table.Td>{f.unit}</Table.Td>
                <Table.Td className="soft">
                  {f.renewed_at ? dayTime(f.renewed_at, fleetZone()) : "being computed"}
                </Table.Td>
                <Table.Td>
                  <Button
                    aria-label={`Remove ${f.metric}`}
                    onClick={() =>
                      sure("Remove", f.metric, "It is not computed any more; its streams stay.", () =>
                        remove(f.id, f.metric),
                      )
                    }
                  >
                    Remove
                  </Button>
                </Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      )}
    </div>
  );
}
