import { Box } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { api, get, type Schema } from "../../api/client";
import { GUTTER } from "../../charts/paneOptions";
import { type Line, TimePane } from "../../charts/TimePane";
import { Trouble, Waiting } from "../../parts/ask";
import { SideBySide } from "../../parts/SideBySide";
import { figure, hours } from "../../parts/words";
import { PaneLabel } from "./PaneLabel";
import workbenchCss from "./workbench.module.css";

type Pane = Pick<Parameters<typeof TimePane>[0], "range" | "zone" | "tickWords" | "onRange" | "onSpan">;
const SETTLE_MS = 300;
const FORMS = ["additive", "multiplicative"] as const;
const WORDS = { additive: "Additive", multiplicative: "Multiplicative" };

/** The stream decomposed in both forms over the same span, and the evidence for either. */
export function Forms({
  streamId,
  scanId,
  unit,
  pane,
}: {
  streamId: number;
  scanId: number;
  unit: string;
  pane: Pane;
}) {
  // Nothing is decomposed while a gesture goes on.
  const [[from, to]] = useDebouncedValue(pane.range, SETTLE_MS);
  const answer = useQuery({
    queryKey: ["forms", scanId, streamId, from, to],
    queryFn: () =>
      get(
        api.GET("/api/v1/scans/{id}/streams/{stream}/forms", {
          params: { path: { id: scanId, stream: streamId }, query: { from, to, points: 2000 } },
        }),
      ),
    placeholderData: keepPreviousData,
  });
  if (answer.isPending) return <Waiting what="Decomposing it both ways" />;
  if (answer.isError) return <Trouble error={answer.error} retry={() => answer.refetch()} />;
  return (
    <div>
      <p className="small">{evidenceWords(answer.data)}</p>
      <SideBySide of="1fr 1fr" gap="0 18px" mr={GUTTER}>
        {FORMS.map((form) => (
          <section key={form} aria-label={WORDS[form]}>
            <h3>
              {WORDS[form]}
              {answer.data.taken === form && <span className="soft small plain"> · the plan takes this</span>}
            </h3>
            {answer.data[form].added !== null && (
              <p className="soft small">
                Zeros have no logarithm: {figure(answer.data[form].added ?? 0)} was added to every value.
              </p>
            )}
            {answer.data[form].why_not ? (
              <p className="soft small">{answer.data[form].why_not}</p>
            ) : (
              <FormPanes
                form={form}
                unit={unit}
                answer={answer.data[form]}
                seasons={answer.data.seasons}
                pane={pane}
              />
            )}
          </section>
        ))}
      </SideBySide>
    </div>
  );
}

function FormPanes({
  form,
  unit,
  answer,
  seasons,
  pane,
}: {
  form: (typeof FORMS)[number];
  unit: string;
  answer: Schema["Form"];
  seasons: (number | null)[];
  pane: Pane;
}) {
  const factor = form === "multiplicative" ? "factor" : unit || "units";
  const parts = useMemo(
    () =>
      [
        { name: `trend, ${unit || "units"}`, data: answer.trend ?? [] },
        ...(answer.seasons ?? []).map((data, i) => ({
          name: `season ${hours(seasons[i] ?? 0)}, ${factor}`,
          data,
        })),
        { name: `remainder, ${factor}`, data: answer.remainder ?? [] },
      ].map((p) => ({ ...p, lines: [{ data: p.data, stroke: "ink", width: 1 }] as Line[] })),
    [answer, seasons, unit, factor],
  );
  return parts.map((p) => (
    <Box mt={14} className={`${workbenchCss.pane} ${workbenchCss.narrow} part`} key={p.name}>
      <PaneLabel>{p.name}</PaneLabel>
      <TimePane
        {...pane}
        time={answer.time ?? []}
        lines={p.lines}
        height={84}
        hasTimeAxis={false}
        label={`${WORDS[form]}: ${p.name}`}
      />
    </Box>
  ));
}

/** What favours either form, in a sentence. */
export function evidenceWords(answer: Pick<Schema["Forms"], "leftover" | "held_out">): string {
  const { additive: a, multiplicative: m } = answer.leftover;
  const leak =
    a === undefined || m === undefined
      ? "Only one form can be had here"
      : `Season left in the size of the remainder: ${figure(a, 2)} added, ${figure(m, 2)} multiplied; the form with less of it fits`;
  const losses = Object.entries(answer.held_out).map(([name, loss]) => `${name} ${figure(loss, 3)}`);
  return `${leak}.${losses.length > 1 ? ` Held-out loss, nats a sample: ${losses.join("; ")}.` : ""}`;
}
