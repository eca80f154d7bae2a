import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { api, get, type Schema } from "../../api/client";
import { type Line, TimePane } from "../../charts/TimePane";
import { Trouble, Waiting } from "../../parts/ask";
import { figure, hours } from "../../parts/words";

type Pane = Pick<Parameters<typeof TimePane>[0], "range" | "zone" | "tickWords" | "onRange" | "onSpan">;
const FORMS = ["additive", "multiplicative"] as const;
const WORDS = { additive: "Parts that add", multiplicative: "Parts that multiply" };

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
  const [from, to] = pane.range;
  const told = useQuery({
    queryKey: ["forms", scanId, streamId, from, to],
    queryFn: () =>
      get(
        api.GET("/api/v1/scans/{id}/streams/{stream}/forms", {
          params: { path: { id: scanId, stream: streamId }, query: { from, to, points: 2000 } },
        }),
      ),
    placeholderData: keepPreviousData,
  });
  if (told.isPending) return <Waiting what="Decomposing it both ways" />;
  if (told.isError) return <Trouble error={told.error} retry={() => told.refetch()} />;
  return (
    <div>
      <p className="small" style={{ margin: "2px 0 6px" }}>
        {evidenceWords(told.data)}
      </p>
      <div className="forms">
        {FORMS.map((form) => (
          <section key={form} aria-label={WORDS[form]}>
            <h3>
              {WORDS[form]}
              {told.data.taken === form && <span className="soft small plain"> · the plan takes this</span>}
            </h3>
            {told.data[form].added !== null && (
              <p className="soft small" style={{ margin: 0 }}>
                Zeros have no logarithm: {figure(told.data[form].added ?? 0)} was added to every value.
              </p>
            )}
            {told.data[form].why_not ? (
              <p className="soft small">{told.data[form].why_not}</p>
            ) : (
              <FormPanes
                form={form}
                unit={unit}
                told={told.data[form]}
                seasons={told.data.seasons}
                pane={pane}
              />
            )}
          </section>
        ))}
      </div>
    </div>
  );
}

function FormPanes({
  form,
  unit,
  told,
  seasons,
  pane,
}: {
  form: (typeof FORMS)[number];
  unit: string;
  told: Schema["Form"];
  seasons: (number | null)[];
  pane: Pane;
}) {
  const factor = form === "multiplicative" ? "factor" : unit || "units";
  const parts = useMemo(
    () =>
      [
        { name: `trend, ${unit || "units"}`, data: told.trend ?? [] },
        ...(told.seasons ?? []).map((data, i) => ({
          name: `season ${hours(seasons[i] ?? 0)}, ${factor}`,
          data,
        })),
        { name: `remainder, ${factor}`, data: told.remainder ?? [] },
      ].map((p) => ({ ...p, lines: [{ data: p.data, stroke: "ink", width: 1 }] as Line[] })),
    [told, seasons, unit, factor],
  );
  return parts.map((p) => (
    <div className="pane narrow" key={p.name} style={{ marginTop: 14 }}>
      <span className="pane-label">{p.name}</span>
      <TimePane
        {...pane}
        time={told.time ?? []}
        lines={p.lines}
        height={84}
        hasTimeAxis={false}
        label={`${WORDS[form]}: ${p.name}`}
      />
    </div>
  ));
}

/** What speaks for either form, in a sentence. */
export function evidenceWords(told: Pick<Schema["Forms"], "leftover" | "held_out">): string {
  const { additive: a, multiplicative: m } = told.leftover;
  const leak =
    a === undefined || m === undefined
      ? "Only one form can be had here"
      : `Season left in the size of the remainder: ${figure(a, 2)} added, ${figure(m, 2)} multiplied; the form with less of it fits`;
  const held = Object.entries(told.held_out).map(([name, loss]) => `${name} ${figure(loss, 3)}`);
  return `${leak}.${held.length > 1 ? ` Held-out loss, nats a sample: ${held.join("; ")}.` : ""}`;
}
