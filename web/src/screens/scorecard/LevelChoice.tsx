import { Button } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import { api, get, type Scan } from "../../api/client";
import { useAddress, withNames } from "../../parts/address";
import { Trouble } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { Field, SelectField } from "../../parts/Field";
import { figure, ratio } from "../../parts/words";
import type { BestLevel, Part } from "./figures";
import type { Marked } from "./PrecisionRecall";
import scorecardCss from "./scorecard.module.css";

type Want = "recall" | "false" | "gap" | "cost";

const WANTS: Record<Want, { words: string; usual: number; step: number; most: number }> = {
  recall: { words: "recall at least", usual: 0.8, step: 0.05, most: 1 },
  false: { words: "false findings a stream-week at most", usual: 0.1, step: 0.05, most: 100 },
  gap: {
    words: "sensitivity and specificity, by sample, no further apart than",
    usual: 0.1,
    step: 0.05,
    most: 1,
  },
  cost: {
    words: "least cost, where a miss costs as much as this many false alarms:",
    usual: 5,
    step: 1,
    most: 10_000,
  },
};

function queryOf(want: Want, amount: number) {
  if (want === "recall") return { min_recall: amount };
  if (want === "false") return { max_false_per_week: amount };
  if (want === "gap") return { max_gap: amount, by: "points" as const };
  return { cost_miss: amount, cost_false: 1 };
}

/** The best level under a constraint, how it fares on data it was not chosen on, and one click to take it. */
export function LevelChoice({
  scan,
  part,
  onMarked,
}: {
  scan: Scan;
  part: Part;
  onMarked: (marked: Marked | null) => void;
}) {
  const [params, setAddress] = useAddress();
  const [stated, amountText] = (params.get("want") ?? "recall").split(":");
  const want: Want = stated && stated in WANTS ? (stated as Want) : "recall";
  const amount = Number(amountText ?? WANTS[want].usual);
  const [made, setMade] = useState<Scan | null>(null);
  const { error, attempt } = useAttempt();
  const best = useQuery({
    queryKey: ["scorecard", "level", scan.id, want, amount, part],
    queryFn: () =>
      get(
        api.GET("/api/v1/scans/{id}/level", {
          params: { path: { id: scan.id }, query: { ...queryOf(want, amount), ...part } },
        }),
      ),
  });
  const b = best.data;
  useEffect(() => {
    onMarked(
      b
        ? {
            level: b.level,
            isMet: b.is_met,
            feasible: want === "cost" ? [] : b.feasible,
            ...(want === "recall" ? { minRecall: amount } : {}),
          }
        : null,
    );
  }, [b, want, amount, onMarked]);
  const state = (next: Want, value: number) =>
    setAddress((old) => withNames(old, { want: `${next}:${value}` }), { replace: true });
  const adopt = async (level: number) => {
    await attempt(async () => {
      setMade(
        await get(
          api.POST("/api/v1/scans/{id}/level", { params: { path: { id: scan.id } }, body: { level } }),
        ),
      );
    });
  };
  return (
    <section aria-label="Choose a level" className={scorecardCss.levelChoice}>
      <p>
        Wanted:{" "}
        <SelectField
          className="word"
          maw="100%"
          aria-label="Constraint"
          value={want}
          onChange={(e) => state(e.target.value as Want, WANTS[e.target.value as Want].usual)}
        >
          {Object.entries(WANTS).map(([name, { words }]) => (
            <option key={name} value={name}>
              {words}
            </option>
          ))}
        </SelectField>{" "}
        <Field
          className="word figure"
          type="number"
          aria-label="Amount"
          min={0}
          max={WANTS[want].most}
          step={WANTS[want].step}
          value={amount}
          onChange={(e) => state(want, Number(e.target.value))}
        />
      </p>
      {best.isError && <Trouble error={best.error} />}
      {b && <BestWords best={b} />}
      {b?.is_met && !made && (
        <Button onClick={() => adopt(b.level)}>
          Adopt {b.level.toFixed(2)} σ as a new version of {scan.plan}
        </Button>
      )}
      {made && (
        <p role="status">
          v{made.version} is made and{" "}
          {made.is_standing ? "takes over as it is scanned" : "scanned as a trial"}:{" "}
          <Link to={`/scorecards/${made.id}`}>its scorecard</Link>.
        </p>
      )}
      {error !== null && <Trouble error={error} />}
    </section>
  );
}

function BestWords({ best }: { best: BestLevel }) {
  const words = (f: Record<string, unknown> | null | undefined) => {
    if (!f) return "too little history";
    const own = f as { precision: number | null; recall: number | null; false_per_week: number | null };
    return `precision ${ratio(own.precision)}, recall ${ratio(own.recall)}, ${figure(own.false_per_week, 2)} false a stream-week`;
  };
  const levels = [...new Set(best.block_levels.map((v) => v.toFixed(2)))];
  return (
    <dl className="small">
      {!best.is_met && (
        <>
          <dt className="soft">not met</dt>
          <dd>No level from 2 to 12 σ meets this; the nearest is {best.level.toFixed(2)} σ.</dd>
        </>
      )}
      <dt className="soft">at {best.level.toFixed(2)} σ, on the data it was chosen on</dt>
      <dd>{words(best.apparent)}</dd>
      <dt className="soft">chosen on four fifths, judged on the fifth</dt>
      <dd>
        {words(best.cross_validated)}
        {levels.length > 1 ? ` (levels from ${levels.sort()[0]} to ${levels.sort().at(-1)} σ)` : ""}
      </dd>
      {best.locked && (
        <>
          <dt className="soft">on the locked span</dt>
          <dd>{words(best.locked)}</dd>
        </>
      )}
    </dl>
  );
}
