import { Box, Group, Stack } from "@mantine/core";
import { Link } from "react-router";
import { Ribbon as RibbonStrip } from "../../charts/Ribbon";
import { Mark } from "../../parts/marks";
import { SideBySide } from "../../parts/SideBySide";
import { dayTime, figure, plural, ratio } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { PeriodBars } from "../look/PeriodBars";
import { periodWords, verdictWords } from "../look/words";
import { PegWords } from "../lookouts/Peg";
import type { State } from "../lookouts/words";
import boardsCss from "./boards.module.css";
import { Lines } from "./Lines";
import type { Line, Shown } from "./words";

/** One line of a list. */
function Row({ children }: { children: React.ReactNode }) {
  return (
    <Group component="li" gap={8} py={3} align="baseline" wrap="nowrap" className="under">
      {children}
    </Group>
  );
}

/** What a pane shows, by its kind. isShared : behind a link nothing else can be opened, so nothing leads on. */
export function PaneBody({ shown, isShared }: { shown: Shown; isShared: boolean }) {
  switch (shown.kind) {
    case "stream":
      return <OneLine line={shown} isShared={isShared} />;
    case "several":
      return (
        <Stack gap={14} h="100%">
          {shown.lines.map((line) => (
            <OneLine key={line.stream} line={line} isShared={isShared} />
          ))}
        </Stack>
      );
    case "strongest":
      return (
        <ol className="plain">
          {shown.findings.map((f) => (
            <Row key={f.id}>
              <Mark kind={f.kind} direction={f.direction} />
              <strong className="figure">
                {f.score === null ? figure(f.size) : `${figure(f.score, 1)} σ`}
              </strong>
              <span>
                <On to={`/workbench/${f.stream}?finding=${f.id}`} isShared={isShared}>
                  {f.title}
                </On>{" "}
                <span className="soft">
                  {f.metric}, since {dayTime(f.start, f.zone)}
                </span>
              </span>
            </Row>
          ))}
          {shown.findings.length === 0 && <li className="soft">No open finding.</li>}
        </ol>
      );
    case "incidents":
      return (
        <ol className="plain">
          {shown.rows.map((row) => (
            <Row key={`${row.id} ${row.finding}`}>
              <span>
                <On
                  to={row.id ? `/incidents/${row.id}` : `/incidents/proposed/${row.finding}`}
                  isShared={isShared}
                >
                  <strong>{row.title}</strong>
                </On>{" "}
                <span className="soft">
                  since {dayTime(row.start, fleetZone())}
                  {row.score === null ? "" : `, up to ${figure(row.score, 1)} σ`}
                  {row.state === "proposed" ? ", proposed" : ""}
                </span>
              </span>
            </Row>
          ))}
          {shown.count > shown.rows.length && (
            <li className="soft">and {shown.count - shown.rows.length} more</li>
          )}
          {shown.count === 0 && <li className="soft">No open incident.</li>}
        </ol>
      );
    case "ribbons":
      return <Ribbons shown={shown} isShared={isShared} />;
    case "forecast":
      return (
        <Group gap={14} wrap="nowrap" align="stretch" h="100%" flex={1} mih={0}>
          <Lines line={shown.line} ahead={shown.ahead} />
        </Group>
      );
    case "scorecard":
      return (
        <p className={boardsCss.large}>
          <strong className="figure">{ratio(shown.precision)}</strong>{" "}
          <span className="soft">
            {shown.precision_ci && `${ratio(shown.precision_ci[0])} to ${ratio(shown.precision_ci[1])}; `}
            {shown.precision_counts[0]} of {plural(shown.precision_counts[1], "finding")} real, of{" "}
            {figure(shown.total)}
          </span>
        </p>
      );
    case "look":
      return (
        <Stack gap={0} h="100%" className={boardsCss.boardLook}>
          <p className="tight">
            <On to={`/look?stream=${shown.stream}&by=${shown.by}`} isShared={isShared}>
              {periodWords(shown.start, shown.by, shown.zone)}
            </On>
            : <strong className="figure">{figure(shown.value)}</strong> {shown.unit}
          </p>
          <p className="tight">{verdictWords(shown)}</p>
          <PeriodBars look={shown} />
        </Stack>
      );
    case "text":
      return (
        <Box component="p" m={0} className="prewrap">
          {shown.text}
        </Box>
      );
  }
}

function On({ to, isShared, children }: { to: string; isShared: boolean; children: React.ReactNode }) {
  return isShared ? children : <Link to={to}>{children}</Link>;
}

function OneLine({ line, isShared }: { line: Line; isShared: boolean }) {
  const last = line.value.at(-1);
  const expected = line.expected?.at(-1);
  return (
    <Group gap={14} wrap="nowrap" align="stretch" h="100%" flex={1} mih={0}>
      <Lines line={line} />
      <Box component="p" flex="none" w="22%" m={0} className={boardsCss.large}>
        <strong className="figure">{figure(last)}</strong> {line.unit}
        <br />
        <span className="soft">
          <On to={`/workbench/${line.stream}`} isShared={isShared}>
            {line.title}
          </On>
          , {dayTime(line.time.at(-1) ?? 0, line.zone)}
          {expected !== null && expected !== undefined && <> · {figure(expected)} expected</>}
        </span>{" "}
        {line.state && <PegWords state={line.state as State} />}
      </Box>
    </Group>
  );
}

function Ribbons({ shown, isShared }: { shown: Extract<Shown, { kind: "ribbons" }>; isShared: boolean }) {
  const span: [number, number] = [shown.span_from ?? 0, shown.span_to ?? 1];
  return (
    <div>
      {shown.rows.map((row) => (
        <SideBySide key={row.id} of="26% minmax(0, 1fr) 18%" gap={10} align="center" py={2}>
          <On to={`/workbench/${row.id}`} isShared={isShared}>
            {row.title}
          </On>
          <RibbonStrip
            ribbon={row.ribbon}
            from={row.ribbon_from ?? 0}
            to={row.ribbon_to ?? 1}
            span={span}
            label={`${row.title}: ${plural(row.open, "open finding")}`}
          />
          <span className="figure right">
            {figure(row.last_value)} <span className="soft">{row.unit}</span>
          </span>
        </SideBySide>
      ))}
      <p className="soft small">
        {dayTime(span[0], fleetZone())} to {dayTime(span[1], fleetZone())}
      </p>
    </div>
  );
}
