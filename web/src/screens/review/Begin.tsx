import { Box, Button, Radio } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, get, list, type Scan } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { dayEnd, dayStart } from "../../parts/clock";
import { Field, SelectField } from "../../parts/Field";
import { ended } from "../../parts/jobs";
import { DayField } from "../../parts/When";
import { begun, plural } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { KIND_WORDS, type Round } from "./words";

const SIZES = [10, 20, 50, 100, 200, 500];

const WHY: Record<Round["kind"], string> = {
  strongest:
    "Hand-picked by strength: quick to find what matters, but its precision holds for the strongest only.",
  sample:
    "Drawn by chance within families and thirds of the score, so that precision holds for all findings of the scan; later samples draw more where verdicts differ.",
  unflagged:
    "Drawn by chance from the time in which nothing was flagged, half of it where the score came near the level: so it is known what is missed.",
};

interface Wanted {
  kind: Round["kind"];
  size: number;
  metric: string;
  from: string;
  to: string;
  least: string;
  scan: number | null;
}

const USUAL: Wanted = { kind: "strongest", size: 50, metric: "", from: "", to: "", least: "", scan: null };

/** What a new round is to hold: which kind of sample, how many, and of what. */
export function Begin({ open }: { open: number | null }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const scans = useQuery({ queryKey: ["scans"], queryFn: () => list(api.GET("/api/v1/scans")) });
  // Standing ones first, those of most streams first among them.
  const usable = useMemo(
    () =>
      (scans.data ?? [])
        .filter((s) => s.state === "done" && s.mode === "fit")
        .sort((a, b) => Number(b.is_standing) - Number(a.is_standing) || b.streams - a.streams),
    [scans.data],
  );
  const [wanted, setWanted] = useState<Wanted>(USUAL);
  const want = (changes: Partial<Wanted>) => setWanted({ ...wanted, ...changes });
  const { kind, size, metric, from, to, least } = wanted;
  const { error, attempt } = useAttempt();
  const scan = usable.find((s) => s.id === wanted.scan) ?? usable[0];
  if (scans.isPending) return null;
  if (!scan)
    return (
      <div className="empty">
        <h2>Nothing to review yet</h2>
        <p>
          A review needs a finished scan. <Link to="/intake">Bring in a file</Link> and scan it.
        </p>
      </div>
    );
  const fits = (which: Round["kind"]) =>
    which === "strongest"
      ? open !== null && `${plural(open, "finding")} without a verdict`
      : which === "sample"
        ? `of ${plural(scan.findings, "finding")}`
        : `of ${plural(scan.streams, "stream")}, a day or so each`;
  const begin = async () => {
    await attempt(async () => {
      const made = await get(
        api.POST("/api/v1/rounds", {
          body: {
            scan: scan.id,
            kind,
            size,
            metric: metric || undefined,
            begin: dayStart(from, fleetZone()),
            end: dayEnd(to, fleetZone()),
            least: kind === "strongest" && least ? Number(least) : undefined,
          },
        }),
      );
      const round = "job" in made ? ((await ended(made.job)).result as { round: number }).round : made.id;
      await client.invalidateQueries({ queryKey: ["rounds"] });
      navigate(`/review/${round}`);
    });
  };
  return (
    <Box aria-label="Begin a round" component="section" mb={22} className="begin">
      <h2>Begin a round</h2>
      <Radio.Group
        aria-label="What to judge"
        value={kind}
        onChange={(value) => want({ kind: value as Round["kind"] })}
        maw="78ch"
        m="6px 0 10px"
      >
        {(Object.keys(KIND_WORDS) as Round["kind"][]).map((value) => (
          <Radio
            key={value}
            value={value}
            size="xs"
            py={8}
            className="ruled"
            label={
              <>
                <strong>{begun(KIND_WORDS[value])}</strong> <span className="soft">{fits(value)}</span>
              </>
            }
            description={WHY[value]}
          />
        ))}
      </Radio.Group>
      <Sample {...{ usable, scan, wanted, want }} />
      {kind !== "strongest" && (metric || from || to) && (
        <p className="soft small">What it says then holds for the chosen family and days alone.</p>
      )}
      <Button variant="filled" onClick={() => void begin()}>
        Begin the round
      </Button>
      {error !== null && <Trouble error={error} />}
    </Box>
  );
}

/** How many, of which family, scan and days, in a sentence. */
function Sample({
  usable,
  scan,
  wanted,
  want,
}: {
  usable: Scan[];
  scan: Scan;
  wanted: Wanted;
  want: (changes: Partial<Wanted>) => void;
}) {
  const { kind, size, metric, from, to, least } = wanted;
  return (
    <p>
      At most{" "}
      <SelectField
        className="word"
        aria-label="How many"
        value={size}
        onChange={(e) => want({ size: Number(e.target.value) })}
      >
        {SIZES.map((n) => (
          <option key={n} value={n}>
            {n}
          </option>
        ))}
      </SelectField>
      , of{" "}
      <SelectField
        className="word"
        aria-label="Of which family"
        value={metric}
        onChange={(e) => want({ metric: e.target.value })}
      >
        <option value="">all families</option>
        {scan.metrics.map((m) => (
          <option key={m} value={m}>
            {m}
          </option>
        ))}
      </SelectField>
      , found by{" "}
      <SelectField
        className="word"
        aria-label="Found by which scan"
        value={scan.id}
        onChange={(e) => want({ scan: Number(e.target.value) })}
      >
        {usable.map((s) => (
          <option key={s.id} value={s.id}>
            {s.plan} v{s.version} over {plural(s.streams, "stream")}
            {s.is_standing ? ", standing" : ", trial"} ({s.id})
          </option>
        ))}
      </SelectField>
      , from <DayField label="First day" value={from} onChange={(day) => want({ from: day })} /> to{" "}
      <DayField label="Last day" value={to} onChange={(day) => want({ to: day })} />
      {kind === "strongest" && (
        <>
          , of at least{" "}
          <Field
            type="number"
            className="word least"
            aria-label="Least strength, sigmas"
            min="0"
            step="0.5"
            placeholder="any"
            value={least}
            onChange={(e) => want({ least: e.target.value })}
          />{" "}
          σ
        </>
      )}
      .
    </p>
  );
}
