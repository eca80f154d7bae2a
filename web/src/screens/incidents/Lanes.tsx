import { Box, Button } from "@mantine/core";
import { useMemo } from "react";
import { Link } from "react-router";
import type { Finding, Incident } from "../../api/client";
import { ticks, tickWords } from "../../charts/ticks";
import { Mark, VERDICT_WORDS, VerdictMark } from "../../parts/marks";
import { SideBySide } from "../../parts/SideBySide";
import { figure } from "../../parts/words";
import { linkTo } from "../tide-table/Strongest";

const LANE = {
  of: "minmax(150px, 230px) minmax(0, 1fr) 86px 96px 62px",
  gap: 12,
  align: "center",
  py: 2,
} as const;

/** Shape as well as colour: above hangs from the top, below stands on the bottom. */
const LOOK: Record<string, { top: number; bottom: number; bg: string }> = {
  above: { top: 3, bottom: 8, bg: "var(--above)" },
  below: { top: 8, bottom: 3, bg: "var(--below)" },
  shift: { top: 3, bottom: 3, bg: "var(--shift)" },
  "": { top: 3, bottom: 3, bg: "var(--ink)" },
};

/** One lane a finding on one axis, in order of time: who began, who followed, how long each lasted. */
export function Lanes({
  incident,
  move,
}: {
  incident: Incident;
  /** Take a finding out; none while the incident is only proposed. */
  move?: (finding: Finding) => void;
}) {
  const [low, high] = useMemo(() => {
    const a = incident.start ?? 0;
    const b = incident.end ?? a;
    const margin = Math.max(0.06 * (b - a), 1_800_000);
    return [a - margin, b + margin];
  }, [incident]);
  const axis = ticks(low, high, incident.zone, 7);
  const words = tickWords(incident.zone);
  // A label at the very end would be cut off.
  const fits = (t: number) => high - t > 0.08 * (high - low);
  const x = (t: number) => `${(100 * (t - low)) / (high - low)}%`;
  const width = (a: number, b: number) => `max(3px, ${(100 * (b - a)) / (high - low)}%)`;
  return (
    <div>
      <SideBySide {...LANE} className="lane nowrap under soft small">
        <span>stream</span>
        <Box
          component="span"
          pos="relative"
          h={18}
          display="block"
          className="clips figure"
          aria-hidden="true"
        >
          {axis.at.filter(fits).map((t) => (
            <i key={t} className="tick small" style={{ left: x(t) }}>
              {words(t, axis.step)}
            </i>
          ))}
        </Box>
        <span className="right">size</span>
        <span>verdict</span>
        <span />
      </SideBySide>
      <ol className="plain">
        {incident.members.map((f) => (
          <SideBySide key={f.id} component="li" {...LANE} className="lane nowrap under">
            <Link to={linkTo(f)} title="Open in the workbench" className="cut lights">
              <Mark kind={f.kind} direction={f.direction} /> {f.title}{" "}
              <span className="soft small">{f.metric}</span>
            </Link>
            <Box component="span" pos="relative" h={18} bg="var(--wash)" display="block">
              <Box
                component="b"
                pos="absolute"
                {...LOOK[f.kind === "shift" ? "shift" : f.direction]}
                data-side={f.kind === "shift" ? "shift" : f.direction}
                style={{ left: x(f.start), width: width(f.start, f.end) }}
              />
            </Box>
            <span className="figure right">
              {f.kind === "shift" ? `${figure(f.size)} ${f.unit}` : `${figure(f.score, 1)} σ`}
            </span>
            <span className="small">
              {f.verdict ? (
                <>
                  <VerdictMark verdict={f.verdict} width={20} /> {VERDICT_WORDS[f.verdict]}
                </>
              ) : (
                <span className="soft">open</span>
              )}
            </span>
            <span>
              {move && (
                <Button
                  className="small"
                  onClick={() => move(f)}
                  aria-label={`Take ${f.metric} ${f.title} out`}
                >
                  Take out
                </Button>
              )}
            </span>
          </SideBySide>
        ))}
      </ol>
    </div>
  );
}
