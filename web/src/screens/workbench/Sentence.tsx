import { Popover } from "@mantine/core";
import { createContext, type ReactNode, useContext, useState } from "react";
import { levelWords, type PlanData, READINGS } from "./plan";

interface Props {
  plan: PlanData;
  resolved?: Record<string, unknown>;
  levels: { above: number | null; below: number | null } | null;
  /** Places of the plan that were refused, such as flag.level. */
  wrong: string[];
  /** What the level promises: one in how many samples, how many false findings a week. */
  promise?: string;
  onChange: (plan: PlanData) => void;
}

const KINDS: Record<string, { words: string; help: string }> = {
  auto: { words: "the fitting baseline", help: "Chosen from the data; what was chosen stands below." },
  harmonic: {
    words: "a harmonic model",
    help: "A trend with bends and seasons of any length, fitted together. Misleads where a season is all jumps.",
  },
  loess: {
    words: "a robust loess",
    help: "Trend and seasons that change slowly. Misleads where the season jumps from one shape to another.",
  },
  slot: {
    words: "the same slot",
    help: "The median of this weekday and time. Misleads where the level grows: it has no trend.",
  },
  classical: {
    words: "a classical decomposition",
    help: "A moving average and the mean of each slot. Misleads where outliers sit in the history.",
  },
  rolling: {
    words: "a rolling window",
    help: "The middle of the samples just before. Misleads in a long incident: it becomes the normal.",
  },
  spectrum: {
    words: "the strongest oscillations",
    help: "Rebuilt from windows of the history. Misleads where noise is as strong as the pattern.",
  },
  trailing: {
    words: "limits that trail behind",
    help: "What the weeks before lay between. Misleads with strong seasons: the limits hold all of them.",
  },
  fixed: {
    words: "fixed limits",
    help: "Stated in the plan, or proposed from history. Flagged exactly where they are crossed.",
  },
  isolation: {
    words: "random isolation trees",
    help: "Windows set apart from all others. Misleads where seasons are strong: the rare hour is not wrong.",
  },
};

/** The plan reads as a sentence whose dotted words are controls. */
export function Sentence({ plan, resolved, levels, wrong, promise, onChange }: Props) {
  const isWrong = (...places: string[]) => wrong.some((w) => places.some((p) => w.startsWith(p)));
  const prepare = (resolved?.prepare ?? {}) as { every?: string; combine?: string };
  const baseline = (resolved?.baseline ?? {}) as { kind?: string; seasons?: string[]; form?: string };
  const seasons = plan.baseline.seasons === "auto" ? (baseline.seasons ?? []) : plan.baseline.seasons;
  const seasonWords = seasons.length
    ? seasons.join(" and ")
    : plan.baseline.seasons === "auto" && !resolved
      ? "those it finds"
      : "none";
  const set = <K extends "prepare" | "baseline" | "flag" | "group" | "shifts">(
    part: K,
    values: Partial<PlanData[K]>,
  ) => onChange({ ...plan, [part]: { ...plan[part], ...values } });
  const [[reading, amount] = ["sigmas", 4]] = Object.entries(plan.flag.level);
  return (
    <div className="sentence">
      Take the {plan.prepare.combine === "auto" ? (prepare.combine ?? "mean") : plan.prepare.combine} every{" "}
      <Word
        words={plan.prepare.every === "auto" ? (prepare.every ?? "cadence") : plan.prepare.every}
        label="cadence"
        isWrong={isWrong("prepare")}
      >
        <TextControl
          label="Every"
          value={String(plan.prepare.every)}
          help="auto, or a duration such as 15m or 1h"
          onDone={(every) => set("prepare", { every })}
        />
      </Word>
      . Expect{" "}
      <Word
        words={
          KINDS[plan.baseline.kind === "auto" ? (baseline.kind ?? "auto") : plan.baseline.kind]?.words ??
          plan.baseline.kind
        }
        label="baseline"
        isWrong={isWrong("baseline.kind")}
      >
        <Choice
          label="Baseline"
          value={plan.baseline.kind}
          options={KINDS}
          onDone={(kind) => set("baseline", { kind, options: {} })}
        />
      </Word>{" "}
      with seasons of{" "}
      <Word words={seasonWords} label="seasons" isWrong={isWrong("baseline.seasons")}>
        <TextControl
          label="Seasons"
          value={plan.baseline.seasons === "auto" ? "auto" : plan.baseline.seasons.join(", ")}
          help="auto, none, or lengths such as 24h, 7d. At most half of the history."
          onDone={(text) => set("baseline", { seasons: parseSeasons(text) })}
        />
      </Word>
      , {baseline.form === "multiplicative" ? "multiplied" : "added"}. Flag{" "}
      <Word
        words={plan.flag.side === "both" ? "above and below" : plan.flag.side}
        label="side"
        isWrong={isWrong("flag.side")}
      >
        <Choice
          label="Side"
          value={plan.flag.side}
          options={{
            both: { words: "above and below", help: "" },
            above: { words: "above only", help: "" },
            below: { words: "below only", help: "" },
          }}
          onDone={(side) => set("flag", { side })}
        />
      </Word>{" "}
      past{" "}
      <Word words={levelWords(plan.flag.level)} label="level" isWrong={isWrong("flag.level", "flag")}>
        <LevelControl reading={reading} amount={amount} onDone={(level) => set("flag", { level })} />
      </Word>
      {reading !== "sigmas" && levels && <Readings levels={levels} />}
      {promise && <span className="promise"> — {promise}</span>}. Call it a finding when{" "}
      <Word words={`${plan.group.need} of ${plan.group.of}`} label="persistence" isWrong={isWrong("group")}>
        <PersistenceControl
          need={plan.group.need}
          of={plan.group.of}
          onDone={(need, of) => set("group", { need, of })}
        />
      </Word>{" "}
      samples agree; join gaps under{" "}
      <Word words={plan.group.merge} label="merge gap" isWrong={isWrong("group.merge")}>
        <TextControl
          label="Join gaps under"
          value={String(plan.group.merge)}
          help="A duration such as 1h, or 0s"
          onDone={(merge) => set("group", { merge })}
        />
      </Word>
      .{" "}
      <Word
        words={plan.shifts.of === "none" ? "Mark no shifts" : `Mark ${plan.shifts.of}s`}
        label="shifts"
        isWrong={isWrong("shifts")}
      >
        <Choice
          label="Shifts"
          value={plan.shifts.of}
          options={{
            step: { words: "steps of the level", help: "" },
            spread: { words: "changes of level or spread", help: "" },
            slope: { words: "bends of the slope", help: "" },
            none: { words: "none", help: "" },
          }}
          onDone={(of) => set("shifts", { of })}
        />
      </Word>
      .
    </div>
  );
}

function Readings({ levels }: { levels: { above: number | null; below: number | null } }) {
  const words = [
    levels.above !== null && `${levels.above.toFixed(1)} σ above`,
    levels.below !== null && `${levels.below.toFixed(1)} σ below`,
  ];
  return <span className="soft"> (for this stream {words.filter(Boolean).join(", ")})</span>;
}

function parseSeasons(text: string): "auto" | string[] {
  const plain = text.trim().toLowerCase();
  if (plain === "auto" || plain === "") return "auto";
  return plain === "none" ? [] : plain.split(/[\s,]+/).filter(Boolean);
}

/** Closes the word a control stands in. */
const CloseWord = createContext<() => void>(() => undefined);

/** A dotted word; its control opens in place and closes when it is done. */
function Word({
  words,
  label,
  isWrong,
  children,
}: {
  words: string | number;
  label: string;
  isWrong: boolean;
  children: ReactNode;
}) {
  const [isOpen, setOpen] = useState(false);
  return (
    <Popover opened={isOpen} onChange={setOpen} trapFocus returnFocus position="bottom-start" width={270}>
      <Popover.Target>
        <button
          type="button"
          className="word"
          data-wrong={isWrong || undefined}
          aria-label={`${label}: ${words}`}
          onClick={() => setOpen(!isOpen)}
        >
          {words}
        </button>
      </Popover.Target>
      <Popover.Dropdown className="change">
        <CloseWord value={() => setOpen(false)}>{children}</CloseWord>
      </Popover.Dropdown>
    </Popover>
  );
}

function TextControl({
  label,
  value,
  help,
  onDone,
}: {
  label: string;
  value: string;
  help: string;
  onDone: (text: string) => void;
}) {
  const close = useContext(CloseWord);
  const [text, setText] = useState(value);
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        close();
        onDone(text.trim());
      }}
    >
      <label>
        {label}
        <input
          className="field"
          style={{ width: "100%" }}
          value={text}
          onChange={(e) => setText(e.target.value)}
          data-autofocus
        />
      </label>
      <p className="soft small">{help}</p>
      <button type="submit" className="act">
        Set
      </button>
    </form>
  );
}

function Choice({
  label,
  value,
  options,
  onDone,
}: {
  label: string;
  value: string;
  options: Record<string, { words: string; help: string }>;
  onDone: (value: string) => void;
}) {
  const close = useContext(CloseWord);
  return (
    <fieldset style={{ border: 0, padding: 0, margin: 0 }}>
      <legend className="soft small">{label}</legend>
      {Object.entries(options).map(([name, { words, help }]) => (
        <div key={name} style={{ padding: "3px 0" }}>
          <button
            type="button"
            className="act"
            aria-pressed={name === value}
            onClick={() => {
              close();
              onDone(name);
            }}
          >
            {words}
          </button>
          {name === value && <span className="soft small"> · now</span>}
          {help && <div className="soft small">{help}</div>}
        </div>
      ))}
    </fieldset>
  );
}

function LevelControl({
  reading,
  amount,
  onDone,
}: {
  reading: string;
  amount: number;
  onDone: (level: Record<string, number>) => void;
}) {
  const close = useContext(CloseWord);
  const [kind, setKind] = useState(reading);
  const [text, setText] = useState(String(amount));
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        close();
        onDone({ [kind]: Number(text) });
      }}
    >
      <label>
        Level, read as
        <select
          className="field"
          style={{ width: "100%" }}
          value={kind}
          onChange={(e) => {
            setKind(e.target.value);
            setText(String(READINGS[e.target.value]?.start ?? 4));
          }}
        >
          {Object.entries(READINGS).map(([name, r]) => (
            <option key={name} value={name}>
              {r.words}
            </option>
          ))}
        </select>
      </label>
      <label>
        Amount
        <input
          className="field"
          style={{ width: "100%" }}
          inputMode="decimal"
          value={text}
          onChange={(e) => setText(e.target.value)}
          data-autofocus
        />
      </label>
      <p className="soft small">{READINGS[kind]?.help}</p>
      <button type="submit" className="act">
        Set
      </button>
    </form>
  );
}

function PersistenceControl({
  need,
  of,
  onDone,
}: {
  need: number;
  of: number;
  onDone: (need: number, of: number) => void;
}) {
  const close = useContext(CloseWord);
  const [a, setA] = useState(String(need));
  const [b, setB] = useState(String(of));
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        close();
        onDone(Number(a), Number(b));
      }}
    >
      <label>
        Flagged samples needed
        <input
          className="field"
          style={{ width: "100%" }}
          inputMode="numeric"
          value={a}
          onChange={(e) => setA(e.target.value)}
          data-autofocus
        />
      </label>
      <label>
        of the last
        <input
          className="field"
          style={{ width: "100%" }}
          inputMode="numeric"
          value={b}
          onChange={(e) => setB(e.target.value)}
        />
      </label>
      <p className="soft small">More needed: fewer false findings, later ones.</p>
      <button type="submit" className="act">
        Set
      </button>
    </form>
  );
}
