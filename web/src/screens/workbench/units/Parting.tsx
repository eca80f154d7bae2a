import { Box, Button, Slider } from "@mantine/core";
import { figure, plural, ratio } from "../../../parts/words";
import { binned, confusionAt, GROUPS, type GroupName, groupOf, type UnitsData } from "./units";

const WIDTH = 0.5;
const BINS = 24;
const W = 640;
const LEFT = 110;
const ROW = 34;
const x = (sigmas: number) => LEFT + (Math.min(sigmas, BINS * WIDTH) / (BINS * WIDTH)) * (W - LEFT - 8);

/** Errors of the units by what they were used for, with the level across them and what it parts. */
export function Parting({
  data,
  level,
  setLevel,
}: {
  data: UnitsData;
  level: number | null;
  setLevel: (level: number) => void;
}) {
  const counts = GROUPS.map((name) => ({ name, bars: binned(data, name, BINS, WIDTH) }));
  const most = Math.log1p(Math.max(...counts.flatMap((c) => c.bars), 1));
  const tall = GROUPS.length * ROW;
  const number = (name: GroupName) => data.score.filter((_, i) => groupOf(data, i) === name).length;
  return (
    <section aria-label="How the level parts the units">
      <Box component="h3" mt={10}>
        How the level parts them
      </Box>
      <svg
        viewBox={`0 0 ${W} ${tall + 16}`}
        width={W}
        role="img"
        aria-label={`Scores of ${counts.map((c) => `${number(c.name)} ${c.name}`).join(", ")}; bars by the logarithm of the count`}
      >
        {counts.map(({ name, bars }, row) => (
          <g key={name} transform={`translate(0 ${row * ROW})`}>
            <text x={LEFT - 8} y={ROW - 8} textAnchor="end" fontSize={12} fill="var(--ink)">
              {name} <tspan fill="var(--ink-soft)">{number(name)}</tspan>
            </text>
            <line x1={LEFT} x2={W - 8} y1={ROW - 4} y2={ROW - 4} stroke="var(--hair)" />
            {bars.map((n, i) => (
              <rect
                // biome-ignore lint/suspicious/noArrayIndexKey: a bin is its place
                key={i}
                x={x(i * WIDTH) + 1}
                width={x(WIDTH) - LEFT - 2}
                y={ROW - 4 - (ROW - 10) * (Math.log1p(n) / most)}
                height={(ROW - 10) * (Math.log1p(n) / most)}
                fill={name === "incidents" ? "var(--above)" : "var(--line)"}
              />
            ))}
          </g>
        ))}
        {level !== null && <rect x={x(level) - 1} width="2" y="0" height={tall - 4} fill="var(--ink)" />}
        {[0, 2, 4, 6, 8, 10, 12].map((s) => (
          <text
            key={s}
            x={x(s)}
            y={tall + 10}
            textAnchor="middle"
            fontSize={10.5}
            fill="var(--ink-soft)"
            className="figure"
          >
            {s === 12 ? "12 σ +" : s}
          </text>
        ))}
      </svg>
      <Box w={W - LEFT - 8 - (2 / 12) * (W - LEFT - 8)} ml={x(2)} mb={10}>
        <Slider
          size="sm"
          min={2}
          max={12}
          step={0.05}
          label={null}
          thumbLabel="Level from which units are flagged, in sigmas"
          value={Math.min(12, Math.max(2, level ?? 12))}
          onChange={setLevel}
        />
      </Box>
      {level !== null && <Parted data={data} level={level} />}
      <p className="small">
        {data.best ? (
          <>
            Sensitivity and specificity lie at most 0.1 apart from {figure(data.best.level, 2)} σ on
            {data.best.is_met ? "" : " as nearly as can be"}, chosen on validation and labelled units.{" "}
            <Button onClick={() => data.best && setLevel(Math.min(12, Math.max(2, data.best.level)))}>
              Go to this level
            </Button>
          </>
        ) : (
          <span className="soft">No level can be chosen yet: {data.why_not}.</span>
        )}
      </p>
    </section>
  );
}

/** What the level makes of the test: units that had no part in learning. */
function Parted({ data, level }: { data: UnitsData; level: number }) {
  const c = confusionAt(data, level);
  const [odd, usual] = [c.tp + c.fn, c.fp + c.tn];
  return (
    <p role="status" aria-label="The test at this level">
      At <strong className="figure">{level.toFixed(2)} σ</strong>, of the {plural(odd + usual, "unit")} of the
      test: {plural(c.tp + c.fp, "is", "are")} flagged.{" "}
      {odd
        ? `Of ${plural(odd, "incident")} ${c.tp} found (recall ${ratio(c.tp / odd)}), of ${usual} others ${c.tn} passed (specificity ${ratio(c.tn / (usual || 1))}).`
        : `None of them is labelled yet: review the flagged ones to know how many are real.`}
    </p>
  );
}
