import { Box } from "@mantine/core";
import type { Incident } from "../../api/client";
import { VERDICT_WORDS } from "../../parts/marks";
import { dayTime, plural } from "../../parts/words";
import { fleetZone } from "../../parts/zones";

const DONE: Record<string, string> = {
  make: "put together",
  apart: "put down as not one thing",
  change: "changed",
  "put in": "put in",
  "take out": "took out",
  judge: "judged",
  "take back": "took back the verdict on",
};

/** What was done, by whom and when; nothing of it can be rewritten. */
export function History({ incident }: { incident: Incident }) {
  return (
    <section aria-label="History">
      <h2>History</h2>
      <Box component="ul" mt={4} className="plain listed">
        {incident.changes.map((c) => (
          <li key={`${c.at}${c.action}`} className="small">
            <span className="figure">{dayTime(c.at, fleetZone())}</span> <strong>{c.by}</strong>{" "}
            {DONE[c.action] ?? c.action} {changeWords(c.action, c.content)}
          </li>
        ))}
      </Box>
    </section>
  );
}

function changeWords(action: string, content: Record<string, unknown>): string {
  const count = (name: string) => (Array.isArray(content[name]) ? content[name].length : 0);
  if (action === "change")
    return Object.entries((content.after ?? {}) as Record<string, string>)
      .map(([name, value]) => `${name.replace("_", " ")} to “${value || "nobody"}”`)
      .join(", ");
  if (action === "judge")
    return `${plural(count("entries"), "finding")} ${VERDICT_WORDS[String(content.verdict)]}`;
  if (action === "take back") return plural(count("entries"), "finding");
  return plural(count("spans"), "finding");
}
