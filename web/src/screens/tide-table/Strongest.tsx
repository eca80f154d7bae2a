import { Box, Group } from "@mantine/core";
import { Link } from "react-router";
import type { Finding, Schema } from "../../api/client";
import { isBad, Mark } from "../../parts/marks";
import { SideBySide } from "../../parts/SideBySide";
import { Taking } from "../../parts/Taking";
import { WordSelect } from "../../parts/WordSelect";
import { dayTime, duration, figure, plural } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { type Cap, CHOICES } from "./caps";
import tideTableCss from "./tide-table.module.css";

/** The strongest open findings, so many of a family and of a stream at most. */
export function Strongest({
  findings,
  open,
  fresh,
  looked,
  caps,
  setCap,
}: {
  caps: Record<Cap, number>;
  setCap: (name: Cap, value: number) => void;
  findings: Schema["Strong"][];
  open: number;
  fresh: number;
  looked: number | null;
}) {
  return (
    <section aria-label="Strongest open findings" className={tideTableCss.strongest}>
      <Group component="h2" gap={14} align="baseline">
        {open ? plural(open, "open finding") : "No open findings"}
        <span className="soft small plain">
          {open === 0
            ? "every finding has a verdict"
            : looked
              ? `${fresh} new since you last looked, ${dayTime(looked, fleetZone())}`
              : ""}
        </span>
        {open > 0 && (
          <span className="soft small plain">
            the <CapWord name="most" label="strongest shown" {...{ caps, setCap }} /> strongest, at most{" "}
            <CapWord name="family" label="at most a family" {...{ caps, setCap }} /> a family and{" "}
            <CapWord name="stream" label="at most a stream" {...{ caps, setCap }} /> a stream
          </span>
        )}
        {open > 0 && (
          <Link to="/review" className="act plain">
            Review them
          </Link>
        )}
      </Group>
      <SideBySide component="ol" of="repeat(2, minmax(0, 1fr))" gap="0 28px" m="6px 0 4px" className="plain">
        {findings.map((f) => (
          <Group component="li" key={f.id} gap={8} align="baseline" wrap="nowrap" miw={0} className="under">
            <Link to={linkTo(f)} className="filler">
              <Group component="span" gap={10} py={3} align="baseline" wrap="nowrap">
                <Mark kind={f.kind} direction={f.direction} isBad={isBad(f, f.bad_side)} />
                <Box component="span" w={58} flex="none" className="figure right">
                  {figure(f.score, 1)} σ
                </Box>
                <strong>{f.title}</strong>
                <span className="soft small cut">
                  {f.metric}, {dayTime(f.start, f.zone)},{" "}
                  {f.kind === "shift"
                    ? `step of ${figure(f.size)} ${f.unit}`
                    : duration((f.end - f.start) / 1000)}
                </span>
              </Group>
            </Link>
            <Taking finding={f} />
          </Group>
        ))}
      </SideBySide>
    </section>
  );
}

/** The workbench at a finding, with a week or so around it. */
export function linkTo(f: Finding): string {
  const margin = Math.max(3 * 86_400_000, f.end - f.start);
  return `/workbench/${f.stream}?from=${f.start - margin}&to=${f.end + margin}&finding=${f.id}`;
}

function CapWord({
  name,
  label,
  caps,
  setCap,
}: {
  name: Cap;
  label: string;
  caps: Record<Cap, number>;
  setCap: (name: Cap, value: number) => void;
}) {
  const choices = [...new Set([...CHOICES[name], caps[name]])].sort((a, b) => a - b);
  return (
    <WordSelect
      label={label}
      value={String(caps[name])}
      choices={choices.map((n) => [String(n), String(n)] as const)}
      onChange={(n) => setCap(name, Number(n))}
    />
  );
}
