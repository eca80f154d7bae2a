import type { Schema } from "../../api/client";

/** Lines that stay the same are shown so far around a change. */
const AROUND = 1;
const SIGN: Record<string, string> = { added: "+", removed: "−", same: " " };

/** What one text of a plan has and another has not. */
export function Changes({ lines }: { lines: Schema["ChangedLine"][] }) {
  const near = nearChanges(lines);
  if (!near.length) return <p className="soft small">Nothing changed.</p>;
  return (
    <pre className="changes">
      {near.map((line, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: lines have no other name
        <span key={i} className={line.kind}>
          {SIGN[line.kind]} {line.text}
          {"\n"}
        </span>
      ))}
    </pre>
  );
}

/** Lines that changed, with their neighbours. */
export function nearChanges<T extends { kind: string }>(lines: T[]): T[] {
  return lines.filter((_, i) =>
    lines.slice(Math.max(0, i - AROUND), i + AROUND + 1).some((l) => l.kind !== "same"),
  );
}
