import { Box } from "@mantine/core";
import type { CSSProperties } from "react";
import type { Schema } from "../../api/client";

/** Lines that stay the same are shown so far around a change. */
const AROUND = 1;
const SIGN: Record<string, string> = { added: "+", removed: "−", same: " " };

const LOOK: Record<string, CSSProperties> = {
  added: { fontWeight: 700 },
  removed: { color: "var(--ink-soft)", textDecoration: "line-through" },
};

/** What one text of a plan has and another has not. */
export function Changes({ lines }: { lines: Schema["ChangedLine"][] }) {
  const near = nearChanges(lines);
  if (!near.length) return <p className="soft small">Nothing changed.</p>;
  return (
    <Box component="pre" fz={12} m="2px 0" className="changes prewrap figure">
      {near.map((line, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: lines have no other name
        <span key={i} data-kind={line.kind} style={LOOK[line.kind]}>
          {SIGN[line.kind]} {line.text}
          {"\n"}
        </span>
      ))}
    </Box>
  );
}

/** Lines that changed, with their neighbours. */
export function nearChanges<T extends { kind: string }>(lines: T[]): T[] {
  return lines.filter((_, i) =>
    lines.slice(Math.max(0, i - AROUND), i + AROUND + 1).some((l) => l.kind !== "same"),
  );
}
