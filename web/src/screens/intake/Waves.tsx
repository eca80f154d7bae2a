import { Button, Group, NumberInput } from "@mantine/core";
import { useState } from "react";
import type { Choices, Preview } from "../../api/client";
import { pathOf } from "../../charts/path";
import { ScaleEnds } from "../../charts/ScaleEnds";
import { SideBySide } from "../../parts/SideBySide";
import { figure } from "../../parts/words";

const MOST = 12;
const W = 420;
const H = 150;
const LEFT = 46;
const USUAL = new Set(["", "0", "false", "no", "normal", "none"]);

export interface Wave {
  line: number;
  values: (number | null)[];
  isOdd: boolean;
}

/** Some rows as waveforms: as many that their class calls odd as others, where there are both. */
export function wavesOf(preview: Preview): Wave[] {
  const names = preview.columns.map((c) => c.name);
  const at = preview.waves.map((name) => names.indexOf(name));
  const classes =
    preview.columns.find((c) => c.role === "label") ??
    preview.columns.find((c) => c.picture.labels.some((word) => word.toLowerCase() === "normal"));
  const by = classes ? names.indexOf(classes.name) : -1;
  const seen = new Set<number>();
  const all = [...preview.sample, ...preview.random]
    .filter((row) => !seen.has(row.line) && seen.add(row.line))
    .map((row) => ({
      line: row.line,
      values: at.map((i) => numberOf(row.cells[i] ?? "", preview.shape.decimal)),
      isOdd: by >= 0 && !USUAL.has((row.cells[by] ?? "").trim().toLowerCase()),
    }));
  const odd = all.filter((w) => w.isOdd).slice(0, MOST / 2);
  return [...all.filter((w) => !w.isOdd).slice(0, MOST - odd.length), ...odd];
}

function numberOf(cell: string, decimal: string): number | null {
  const value = Number(decimal === "," ? cell.replace(",", ".") : cell);
  return cell.trim() === "" || Number.isNaN(value) ? null : value;
}

/** Rows that are a waveform each, or may be: some of them over one another, and how far their samples are apart. */
export function Waves({ preview, onChange }: { preview: Preview; onChange: (c: Choices) => void }) {
  const { waves, wave_step_s: step } = preview;
  const [milliseconds, setMilliseconds] = useState<number | string>((step ?? 0.001) * 1000);
  if (!waves.length) return null;
  const take = () => onChange({ wave_step_s: Number(milliseconds) / 1000, roles: undefined, kept: 0 });
  return (
    <section aria-label="Waveforms">
      <h2>{step === null ? "Is each row one waveform?" : "Each row is one waveform"}</h2>
      <SideBySide of="minmax(0, 3fr) minmax(0, 2fr)" gap={34} align="start">
        <Picture preview={preview} />
        <div>
          <p>
            {figure(waves.length)} columns, {waves[0]} to {waves.at(-1)}, are numbered one after another.{" "}
            {step === null
              ? "Read so, a row becomes a burst that is judged as a whole; read as they are, each column becomes a stream."
              : "A row becomes a burst from its stamp on, and is judged as a whole by a plan with prepare.unit."}
          </p>
          {step !== null && preview.columns.some((c) => c.role === "label") && (
            <p className="soft small">
              Rows whose class is not normal go into the logbook as incidents, and never train.
            </p>
          )}
          <Group gap={12} align="end">
            <NumberInput
              label="Milliseconds from sample to sample"
              value={milliseconds}
              onChange={setMilliseconds}
              min={0.001}
              decimalScale={3}
              hideControls
              w={150}
            />
            <Button disabled={!(Number(milliseconds) > 0)} onClick={take}>
              {step === null ? "Read each row as one waveform" : "Change it"}
            </Button>
            {step !== null && (
              <Button onClick={() => onChange({ wave_step_s: null })}>Read columns as streams</Button>
            )}
          </Group>
        </div>
      </SideBySide>
    </section>
  );
}

function Picture({ preview }: { preview: Preview }) {
  const shown = wavesOf(preview);
  const seen = shown.flatMap((w) => w.values).filter((v): v is number => v !== null);
  const [low, high] = [Math.min(...seen), Math.max(...seen)];
  const odd = shown.filter((w) => w.isOdd).length;
  const last = Math.max(1, preview.waves.length - 1);
  const y = (v: number) => 4 + (1 - (v - low) / (high - low || 1)) * (H - 8);
  return (
    <figure>
      <svg
        viewBox={`0 0 ${W} ${H}`}
        width="100%"
        role="img"
        aria-label={`${shown.length} rows over one another, ${odd} of them of another class than normal`}
      >
        <ScaleEnds low={low} high={high} x={LEFT - 6} y={y} />
        {shown.map((w) => (
          <path
            key={w.line}
            d={pathOf(w.values, (i) => LEFT + (i / last) * (W - LEFT - 4), y)}
            fill="none"
            stroke={w.isOdd ? "var(--above)" : "var(--line)"}
            strokeWidth="1.2"
            strokeDasharray={w.isOdd ? "5 3" : undefined}
          >
            <title>line {w.line}</title>
          </path>
        ))}
      </svg>
      <figcaption className="soft small">
        {shown.length} of the rows over one another
        {odd > 0 ? `; broken, red: ${odd} whose class is not normal` : ""}.
      </figcaption>
    </figure>
  );
}
