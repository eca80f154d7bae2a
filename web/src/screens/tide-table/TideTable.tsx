import { Box, Button, Group, Stack } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect, useMemo } from "react";
import { Link } from "react-router";
import { api, get } from "../../api/client";
import { TopBar } from "../../frame";
import { useAddress, withNames } from "../../parts/address";
import { Trouble, Waiting } from "../../parts/ask";
import { SelectField } from "../../parts/Field";
import { FilterField } from "../../parts/FilterField";
import { Hint } from "../../parts/Hint";
import { Mark } from "../../parts/marks";
import { TYPING_MS } from "../../parts/streams";
import { plural, spanWords, utc, zoneWords } from "../../parts/words";
import { Columns, FleetSwitch } from "./Choices";
import { CAPS, type Cap, type Family, type Line, SORTS, type Span, type Way } from "./caps";
import { OpenIncidents } from "./OpenIncidents";
import { Rows } from "./Rows";
import { linkTo, Strongest } from "./Strongest";

export default function TideTable() {
  const [params, setAddress] = useAddress();
  const caps = capsOf(params);
  const chosen = spanOf(params);
  const fleet = Number(params.get("fleet")) || null;
  const text = params.get("filter") ?? "";
  const [filter] = useDebouncedValue(text, TYPING_MS);
  const sort = SORTS.find((s) => s === params.get("sort")) ?? "strongest";
  const way: Way = { sort, filter, ...(fleet ? { fleet } : {}) };
  const query = { ...caps, ...way, ...(chosen ? { begin: chosen[0], end: chosen[1] } : {}), rows: false };
  const tide = useQuery({
    queryKey: ["tide", query],
    // With the way that it was asked in: until another answer comes, rows are those of this one.
    queryFn: async () => ({ ...(await get(api.GET("/api/v1/tide", { params: { query } }))), way }),
    placeholderData: keepPreviousData,
  });
  const set = (name: string, value: string) =>
    setAddress((old) => withNames(old, { [name]: value }), { replace: true });
  // Seen: what comes after this is new the next time.
  const isThere = Boolean(tide.data);
  useEffect(() => {
    if (!isThere) return;
    return () => void api.POST("/api/v1/tide/looked").catch(() => undefined);
  }, [isThere]);
  const families = tide.data?.families;
  const lines = useMemo(() => linesOf(families ?? []), [families]);
  if (tide.isPending) return <Waiting what="Reading the tide table" />;
  if (tide.isError) return <Trouble error={tide.error} retry={() => tide.refetch()} />;
  const { span_from, span_to, zone } = tide.data;
  if (!tide.data.streams) return <NoStreams />;
  const whole: Span = [span_from ?? 0, span_to ?? 1];
  const span = chosen ?? whole;
  const setSpan = (next: Span | null) =>
    setAddress(
      (old) => withNames(old, { from: next && Math.round(next[0]), to: next && Math.round(next[1]) }),
      {
        replace: true,
      },
    );
  const [first] = tide.data.strongest;
  return (
    <Stack gap={0} h="100%" p="10px 20px 0">
      <TopBar>
        <h1>Tide table</h1>
        <span className="filler" />
        {span_from !== null && (
          <span className="figure small" title={`${utc(span[0])} to ${utc(span[1])}`}>
            {spanWords(span[0], span[1], zone)} · {zoneWords(span[1], zone)}
          </span>
        )}
        {chosen && <Button onClick={() => setSpan(null)}>Whole span</Button>}
      </TopBar>
      <Hint name="tide">
        Each row is a stream, its ribbon how far it was from what was expected: a pennant up is above, down
        below, and filled is the bad side.{" "}
        {first ? (
          <>
            Next: <Link to={linkTo(first)}>see why the strongest finding is one</Link>, and say what it was.
          </>
        ) : (
          "Open a row to see what was expected of it."
        )}
      </Hint>
      <OpenIncidents />
      <Strongest
        findings={tide.data.strongest}
        open={tide.data.open}
        fresh={tide.data.new}
        looked={tide.data.last_looked ?? null}
        caps={caps}
        setCap={(name, value) => set(name, value === CAPS[name] ? "" : String(value))}
      />
      <Group gap={24} py={6} wrap="nowrap">
        <label>
          Sorted by{" "}
          <SelectField className="word" value={sort} onChange={(e) => set("sort", e.target.value)}>
            <option value="strongest">strongest</option>
            <option value="newest">newest</option>
            <option value="open">most open</option>
            <option value="name">name</option>
          </SelectField>
        </label>
        <FilterField
          label="Filter streams"
          hint="Filter: place, route, state …"
          value={text}
          onChange={(value) => set("filter", value)}
        />
        <FleetSwitch
          rate={fleet}
          heldBack={tide.data.held_back}
          promise={tide.data.fleet_promise}
          onChange={(value) => set("fleet", value === null ? "" : String(value))}
        />
        <Box component="span" ml="auto" className="soft small">
          {plural(lines.length - tide.data.families.length, "stream")}
        </Box>
        <Columns chosen={tide.data.columns} />
      </Group>
      <Rows
        lines={lines}
        way={tide.data.way}
        span={span}
        whole={whole}
        setSpan={setSpan}
        zone={zone}
        columns={tide.data.columns}
      />
      <Legend />
    </Stack>
  );
}

function capsOf(params: URLSearchParams): Record<Cap, number> {
  const of = (name: Cap) => Number(params.get(name)) || CAPS[name];
  return { most: of("most"), family: of("family"), stream: of("stream") };
}

function spanOf(params: URLSearchParams): Span | null {
  const [a, b] = ["from", "to"].map((name) => Number(params.get(name)));
  return a && b && b > a ? [a, b] : null;
}

/** The lines of families in their order: the head of each, and its streams by their place in the order of all. */
export function linesOf(families: Family[]): Line[] {
  let at = 0;
  return families.flatMap((family): Line[] => [
    { kind: "family", family },
    ...Array.from({ length: family.streams }, (): Line => ({ kind: "stream", at: at++, family })),
  ]);
}

function Legend() {
  return (
    <Group component="footer" gap={20} p="8px 0 10px" className="ruled soft small">
      <span>Colour and height: size of the deviation from 3.8 σ on.</span>
      <span>
        <Mark kind="outlier" direction="above" /> above
      </span>
      <span>
        <Mark kind="outlier" direction="below" /> below
      </span>
      <span>
        <Mark kind="shift" direction="up" /> shift
      </span>
      <span>filled: the bad side</span>
      <Box component="span" ml="auto">
        <kbd>↑</kbd> <kbd>↓</kbd> row · <kbd>+</kbd> <kbd>−</kbd> zoom · <kbd>Enter</kbd> open · <kbd>?</kbd>{" "}
        keys
      </Box>
    </Group>
  );
}

function NoStreams() {
  return (
    <div className="padded empty">
      <h1>No streams yet</h1>
      <p>
        Bring in a file with a time column and a value column. You see what was guessed before anything is
        stored.
      </p>
      <Button component={Link} to="/intake" variant="filled">
        Bring in a file
      </Button>
    </div>
  );
}
