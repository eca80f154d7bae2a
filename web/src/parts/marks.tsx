import type { Finding } from "../api/client";

/** A pennant: up and vermilion for above, down and teal for below; a stepped tick for shifts. Bad is filled, good open. */
export function Mark({
  kind,
  direction,
  isBad = true,
}: {
  kind: string;
  direction: string;
  isBad?: boolean;
}) {
  if (kind === "shift") {
    return (
      <svg width="15" height="14" viewBox="0 0 15 14" role="img" aria-label={`shift ${direction}`}>
        <path
          d={direction === "up" ? "M1 11h6V3h7" : "M1 3h6v8h7"}
          fill="none"
          stroke="var(--shift)"
          strokeWidth="2"
        />
      </svg>
    );
  }
  if (direction === "") {
    // A burst, a stuck value, an odd shape: neither above nor below.
    return (
      <svg width="12" height="14" viewBox="0 0 12 14" role="img" aria-label="without a side">
        <path
          d="M6 2l4.5 5L6 12 1.5 7z"
          fill={isBad ? "var(--ink)" : "none"}
          stroke="var(--ink)"
          strokeWidth="1.2"
        />
      </svg>
    );
  }
  const up = direction !== "below";
  const colour = up ? "var(--above)" : "var(--below)";
  return (
    <svg width="12" height="14" viewBox="0 0 12 14" role="img" aria-label={direction}>
      <path d="M2 1v12" stroke={colour} strokeWidth="1.6" />
      <path
        d={up ? "M2 1l9 3.5-9 3.5z" : "M2 13l9-3.5L2 6z"}
        fill={isBad ? colour : "none"}
        stroke={colour}
        strokeWidth="1.2"
      />
    </svg>
  );
}

/** A verdict by pattern: incident solid, foreseen hollow, false alarm struck through, unsure dotted. */
export function VerdictMark({ verdict, width = 26 }: { verdict: string; width?: number }) {
  const ink = "var(--ink)";
  return (
    <svg width={width} height="13" viewBox={`0 0 ${width} 13`} aria-hidden="true">
      <rect
        x="1"
        y="1"
        width={width - 2}
        height="11"
        fill={verdict === "incident" ? ink : verdict === "reviewed" ? "var(--band)" : "none"}
        stroke={verdict === "false-alarm" ? "var(--line)" : ink}
        strokeWidth="1.3"
        strokeDasharray={verdict === "unsure" ? "1.5 2" : undefined}
      />
      {verdict === "false-alarm" && <path d={`M1 12L${width - 1} 1`} stroke={ink} strokeWidth="1.5" />}
    </svg>
  );
}

export const VERDICT_WORDS: Record<string, string> = {
  incident: "incident",
  foreseen: "foreseen",
  "false-alarm": "false alarm",
  unsure: "unsure",
  reviewed: "looked through",
};

/** What a finding is, and to which side. */
export function kindWords(f: Pick<Finding, "kind" | "direction">): string {
  return `${f.kind} ${f.direction || "without a side"}`;
}

/** The verdict on a finding, or why there is none. */
export function stateWords(f: Finding): string {
  if (f.verdict) return VERDICT_WORDS[f.verdict] ?? f.verdict;
  return f.quiet ? "in planned work" : "no verdict yet";
}

/** Whether a finding lies on the side that is bad for its stream. */
export function isBad(f: Finding, badSide: string): boolean {
  return badSide === "both" || f.kind === "shift" || f.direction === badSide;
}

/** An interval as a whisker on 0 … 1, with its value. */
export function Whisker({
  value,
  low,
  high,
  isOpen = false,
}: {
  value: number | null;
  low: number | null;
  high: number | null;
  /** An open square: a second reading beside the first, such as a replay's. */
  isOpen?: boolean;
}) {
  const x = (v: number) => 4 + v * 112;
  return (
    <svg width="120" height="14" viewBox="0 0 120 14" aria-hidden="true">
      <path d="M4 7H116" stroke="var(--hair)" />
      {low !== null && high !== null && (
        <path
          d={`M${x(low)} 7H${x(high)}M${x(low)} 3.5v7M${x(high)} 3.5v7`}
          stroke="var(--ink)"
          strokeWidth="1.8"
        />
      )}
      {value !== null && (
        <rect
          x={x(value) - 3.5}
          y="3.5"
          width="7"
          height="7"
          fill={isOpen ? "var(--paper)" : "var(--ink)"}
          stroke="var(--ink)"
          strokeWidth={isOpen ? 1.4 : 0}
        />
      )}
    </svg>
  );
}
