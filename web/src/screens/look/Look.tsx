import { Box, Button, Group, NumberInput } from "@mantine/core";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, get } from "../../api/client";
import { TopBar } from "../../frame";
import { useAddress, withNames } from "../../parts/address";
import { Trouble, Waiting } from "../../parts/ask";
import { useMetrics } from "../../parts/streams";
import { WordSelect } from "../../parts/WordSelect";
import { figure } from "../../parts/words";
import { AddToBoard } from "../boards/AddToBoard";
import { Mornings } from "./Mornings";
import { Parts } from "./Parts";
import { PeriodBars } from "./PeriodBars";
import { type By, besideWords, type Look as Data, limitsWords, periodWords, verdictWords } from "./words";

const BY = [
  ["day", "day"],
  ["week", "week"],
] as const;

/** The last finished day or week beside the same ones before it, and any past one. */
export default function Look() {
  const [params, change] = useAddress();
  const set = (names: Record<string, string | number | null>) => change((old) => withNames(old, names));
  const stream = Number(params.get("stream")) || undefined;
  const metric = params.get("metric") ?? "";
  const by: By = params.get("by") === "week" ? "week" : "day";
  const n = Number(params.get("n")) || 8;
  const day = params.get("day") ?? undefined;
  const query = { by, n, day, ...(metric ? { metric } : { stream }) };
  const found = useQuery({
    queryKey: ["look", query],
    queryFn: ({ signal }) => get(api.GET("/api/v1/look", { params: { query }, signal })),
    enabled: Boolean(stream || metric),
    placeholderData: keepPreviousData,
  });
  if (!stream && !metric) return <Choose set={set} />;
  if (found.isPending) return <Waiting what={`Looking at the last ${by}`} />;
  if (found.isError)
    return (
      <div className="padded">
        <TopBar>
          <h1>{by === "day" ? "The day" : "The week"}</h1>
        </TopBar>
        <Trouble error={found.error} retry={() => found.refetch()} />
        {by === "day" && <Button onClick={() => set({ by: "week", day: null })}>Look at the week</Button>}
      </div>
    );
  const look = found.data;
  return (
    <div className="padded" aria-busy={found.isFetching}>
      <TopBar>
        {look.stream ? (
          <Link to={`/workbench/${look.stream}`} className="soft">
            {look.title}
          </Link>
        ) : (
          <span className="soft">{look.title}</span>
        )}
        <h1>{periodWords(look.start, by, look.zone)}</h1>
        <span className="soft">{look.zone}</span>
      </TopBar>
      <p className="tight">
        The last finished{" "}
        <WordSelect
          label="period"
          value={by}
          choices={BY}
          onChange={(value) => set({ by: value, day: null })}
        />{" "}
        or any before it, beside the same one of the{" "}
        <NumberInput
          w={64}
          display="inline-block"
          aria-label="how many before it"
          size="xs"
          min={1}
          max={26}
          allowDecimal={false}
          value={n}
          onChange={(value) => typeof value === "number" && value >= 1 && set({ n: value })}
        />{" "}
        before. {day && <Button onClick={() => set({ day: null })}>To the last finished one</Button>}{" "}
        {look.stream && <AddToBoard pane={{ kind: "look", stream: look.stream, by, n }} />}
      </p>
      <Figures look={look} />
      <PeriodBars
        look={look}
        choose={(start) => set({ day: new Date(start + 12 * 3_600_000).toISOString().slice(0, 10) })}
      />
      <p className="soft small tight">
        Bars: {look.adds_up ? "totals" : "means"} of each {by}; line: usual; shade: its limits, in which 95 of
        100 lie. Arrow keys or a click choose another.
      </p>
      <Parts look={look} />
      <Mornings look={look} metric={metric} />
    </div>
  );
}

function Figures({ look }: { look: Data }) {
  return (
    <div>
      <Box component="p" fz={17} m="10px 0 2px" className="look-value">
        <strong className="figure">{figure(look.value)}</strong> {look.unit}{" "}
        <span className={look.is_bad ? "above" : undefined}>{verdictWords(look)}</span>
      </Box>
      <p className="soft small tight">
        Usual {figure(look.usual)}, {besideWords(look)}; limits {limitsWords(look)}
        {look.seen < 0.9 && `; only ${Math.round(100 * look.seen)} % of it was seen`}.
      </p>
    </div>
  );
}

/** A look at what: a family as a whole, or one stream. */
function Choose({ set }: { set: (names: Record<string, string | number | null>) => void }) {
  const metrics = useMetrics();
  return (
    <div className="padded">
      <TopBar>
        <h1>The day</h1>
        <span className="soft">the last finished day or week beside the same ones before it</span>
      </TopBar>
      {metrics.isPending && <Waiting what="Reading the streams" />}
      <h2>All of a family</h2>
      <Group component="p" gap="6px 18px">
        {metrics.data?.map((metric) => (
          <Button key={metric} onClick={() => set({ metric })}>
            {metric}
          </Button>
        ))}
      </Group>
      <p className="soft">Of one stream: open it in the workbench, and there The day beside its plan.</p>
    </div>
  );
}
