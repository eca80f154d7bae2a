import { Button, Group, Stack } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { api, get, type Schema } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { begun, figure } from "../../parts/words";
import type { PlanData } from "./plan";
import type { StreamFacts } from "./types";

/** What a remedy changes, in words: `baseline.form: multiplicative`. */
export function remedyWords(remedy: Record<string, unknown>): string {
  return Object.entries(remedy)
    .map(([place, value]) => {
      const name = place.split(".").at(-1) ?? place;
      if (value !== null && typeof value === "object" && !Array.isArray(value)) {
        return remedyWords(value as Record<string, unknown>);
      }
      const words = Array.isArray(value) ? value.join(" and ") || "none" : String(value);
      return `${name.replaceAll("_", " ")} ${words}`;
    })
    .join(", ");
}

/** Is it any good? Diagnoses in plain words, each with its remedy as an action that tries it. */
export function Examination({
  stream,
  scanId,
  isBusy,
  onTry,
}: {
  stream: StreamFacts;
  scanId: number;
  isBusy: boolean;
  onTry: (plan: PlanData) => void;
}) {
  const told = useQuery({
    queryKey: ["examination", scanId, stream.id],
    queryFn: () =>
      get(
        api.GET("/api/v1/scans/{id}/streams/{stream}/examination", {
          params: { path: { id: scanId, stream: stream.id } },
        }),
      ),
  });
  return (
    <section aria-label="Is it any good?">
      <h2>Is it any good?</h2>
      {told.isPending && <p className="soft small">Looking at what is left over</p>}
      {told.isError && <Trouble error={told.error} retry={() => told.refetch()} />}
      {told.data && (
        <>
          <Errors told={told.data} unit={stream.unit} />
          <Smallest told={told.data} unit={stream.unit} />
          {told.data.diagnoses.length === 0 && (
            <p className="small tight">
              Nothing speaks against it: no season or trend is left over, and held-out samples fit as well as
              those it learnt from.
            </p>
          )}
          <Stack component="ul" gap={7} m="4px 0 0" pl={16} fz={13.5}>
            {told.data.diagnoses.map((d) => (
              <li key={d.name + d.words}>
                {begun(d.words)}.
                {d.plan && (
                  <Group gap={10} align="baseline" justify="space-between" wrap="nowrap">
                    <Button disabled={isBusy} onClick={() => onTry(d.plan as unknown as PlanData)}>
                      Try {remedyWords(d.remedy)}
                    </Button>
                    <span className="soft small">shows before and after</span>
                  </Group>
                )}
              </li>
            ))}
          </Stack>
        </>
      )}
    </section>
  );
}

/** The smallest deviation of one sample that the level in force flags. */
function Smallest({ told, unit }: { told: Schema["Examination"]; unit: string }) {
  const { above = null, below = null } = told.smallest;
  const sides = [
    above === null ? null : { value: above, side: "above" },
    below === null ? null : { value: below, side: "below" },
  ].filter((x) => x !== null);
  if (!sides.length) return null;
  return (
    <p className="small tight">
      The smallest deviation of one sample that is flagged is{" "}
      {sides.map((x, i) => (
        <span key={x.side}>
          {i > 0 && " and "}
          <span className="figure">{figure(x.value)}</span> {unit} {x.side}
        </span>
      ))}
      , at the median sample.
    </p>
  );
}

function Errors({ told, unit }: { told: Schema["Examination"]; unit: string }) {
  const { training, after } = told;
  const inside = (e: Schema["Errors"]) =>
    e.coverage === null ? null : (
      <>
        {" "}
        (<span className="figure">{figure(e.coverage * 100, 1)}</span> % inside the band)
      </>
    );
  return (
    <p className="small tight">
      On average off by <span className="figure">{figure(training.mae)}</span> {unit} in training
      {inside(training)}
      {after && (
        <>
          , by <span className="figure">{figure(after.mae)}</span> after it{inside(after)}
        </>
      )}
      .
    </p>
  );
}
