import { Button, Checkbox, Table } from "@mantine/core";
import { useInfiniteQuery, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { useSearchParams } from "react-router";
import { api, type Entry, get, queryOf, type Verdict } from "../../api/client";
import { TopBar } from "../../frame";
import { useKeys } from "../../keys/useKeys";
import { Trouble, Waiting } from "../../parts/ask";
import { SelectField } from "../../parts/Field";
import { FilterField } from "../../parts/FilterField";
import { VERDICT_WORDS } from "../../parts/marks";
import { plural } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { Bulk } from "./Bulk";
import { EntryForm } from "./EntryForm";
import { EntryLanes } from "./EntryLanes";
import { EntryRow } from "./EntryRow";
import { Import } from "./Import";
import { Quiets } from "./Quiets";
import "./logbook.css";

const VERDICT_LIST = Object.keys(VERDICT_WORDS) as Verdict[];

type Open = "entry" | "import" | "quiet" | null;

/** The annotated history as lanes over time and as a list: filter, write, correct, take out, import and export. */
export default function Logbook() {
  const client = useQueryClient();
  const [params, setParams] = useSearchParams();
  const [open, setOpen] = useState<Open>(null);
  const [told, setTold] = useState("");
  const [undo, setUndo] = useState<number | null>(null);
  const [gone, setGone] = useState<Entry | null>(null);
  const [error, setError] = useState<unknown>(null);
  const [ticked, setTicked] = useState<number[]>([]);
  const write = useRef<HTMLButtonElement>(null);
  const filter = {
    verdict: params.get("verdict") || undefined,
    text: params.get("text") || undefined,
    from: Number(params.get("from")) || undefined,
    to: Number(params.get("to")) || undefined,
  };
  const entries = useInfiniteQuery({
    queryKey: ["logbook", filter],
    queryFn: ({ pageParam }) =>
      get(api.GET("/api/v1/logbook", { params: { query: { ...filter, cursor: pageParam || undefined } } })),
    initialPageParam: "",
    getNextPageParam: (page) => page.next,
  });
  const set = (changes: Record<string, string | number | null>) => {
    const next = new URLSearchParams(params);
    for (const [name, value] of Object.entries(changes)) {
      if (value) next.set(name, String(value));
      else next.delete(name);
    }
    setParams(next, { replace: true });
  };
  const fresh = () => client.invalidateQueries({ queryKey: ["logbook"] });
  const attempt = async (work: () => Promise<string>) => {
    setError(null);
    setTold("");
    setUndo(null);
    setGone(null);
    try {
      setTold(await work());
    } catch (problem) {
      setError(problem);
    }
    void fresh();
  };
  const undoAll = (id: number) =>
    attempt(async () => {
      const { undone, left } = await get(
        api.POST("/api/v1/logbook/changes/{id}/undo", { params: { path: { id } } }),
      );
      return `Undone for ${plural(undone, "entry", "entries")}${left ? `; ${left} were changed again since and stay as they are` : ""}.`;
    });
  useKeys({ w: () => write.current?.click() });
  const rows = entries.data?.pages.flatMap((p) => p.items) ?? [];
  const total = entries.data?.pages[0]?.total ?? 0;
  const query = queryOf(filter);
  const door = (name: Open) => ({
    "aria-expanded": open === name,
    onClick: () => setOpen(open === name ? null : name),
  });
  const isFiltered = Boolean(query);
  return (
    <div className="padded">
      <TopBar>
        <h1>Logbook</h1>
        <span className="soft">
          {plural(total, "entry", "entries")}
          {isFiltered ? " fit" : ""}, version {entries.data?.pages[0]?.version ?? 0}
        </span>
      </TopBar>
      <div className="logbook-tools">
        <label>
          Verdict{" "}
          <SelectField
            className="word"
            value={filter.verdict ?? ""}
            onChange={(e) => set({ verdict: e.target.value })}
          >
            <option value="">any</option>
            {VERDICT_LIST.map((v) => (
              <option key={v} value={v}>
                {VERDICT_WORDS[v]}
              </option>
            ))}
          </SelectField>
        </label>
        <FilterField
          label="Filter entries"
          hint="Filter: cause, note, scope, author …"
          value={filter.text ?? ""}
          onChange={(value) => set({ text: value })}
        />
        {isFiltered && (
          <Button onClick={() => set({ verdict: null, text: null, from: null, to: null })}>Show all</Button>
        )}
        <span style={{ flex: 1 }} />
        <Button ref={write} title="w" {...door("entry")}>
          Write an entry
        </Button>
        <Button {...door("quiet")}>Quiet until …</Button>
        <Button {...door("import")}>Import labels</Button>
        <span>
          Export{" "}
          {["csv", "json", "ics"].map((kind) => (
            <a
              key={kind}
              className="act"
              style={{ marginLeft: 8 }}
              href={`/api/v1/logbook/export?kind=${kind}${query && `&${query}`}`}
              download
              aria-label={`Export ${kind.toUpperCase()}`}
            >
              {kind.toUpperCase()}
            </a>
          ))}
        </span>
      </div>
      {told && (
        <p role="status">
          {told} {undo !== null && <Button onClick={() => undoAll(undo)}>Undo</Button>}
          {gone && (
            <Button
              onClick={() =>
                attempt(async () => {
                  await api.POST("/api/v1/logbook/{id}/restore", { params: { path: { id: gone.id } } });
                  return "Put back.";
                })
              }
            >
              Put it back
            </Button>
          )}
        </p>
      )}
      {error !== null && <Trouble error={error} />}
      {open === "entry" && (
        <EntryForm
          onDone={() => {
            setOpen(null);
            void fresh();
          }}
        />
      )}
      {open === "import" && (
        <Import
          onDone={(words, changes) => {
            setOpen(null);
            void attempt(async () => words).then(() => setUndo(changes));
          }}
        />
      )}
      <Quiets isOpen={open === "quiet"} onDone={() => setOpen(null)} />
      <EntryLanes filter={filter} onSpan={(from, to) => set({ from, to })} zone={fleetZone()} />
      {ticked.length > 0 && (
        <Bulk
          entries={ticked}
          onDone={(words, changes) => {
            setTicked([]);
            void attempt(async () => words).then(() => setUndo(changes));
          }}
          onForget={() => setTicked([])}
        />
      )}
      {entries.isPending && <Waiting what="Reading the logbook" />}
      {entries.isError && <Trouble error={entries.error} retry={() => entries.refetch()} />}
      {entries.data && rows.length === 0 && (
        <div className="empty">
          <h2>{isFiltered ? "Nothing matches" : "The logbook is empty"}</h2>
          <p>Verdicts given in review land here; a labels file with a start column can be imported.</p>
        </div>
      )}
      {rows.length > 0 && (
        <Table className="rows">
          <Table.Thead>
            <Table.Tr>
              <Table.Th>
                <Checkbox
                  size="xs"
                  aria-label="Tick all that are shown"
                  checked={ticked.length === rows.length}
                  onChange={() => setTicked(ticked.length === rows.length ? [] : rows.map((e) => e.id))}
                />
              </Table.Th>
              <Table.Th>verdict</Table.Th>
              <Table.Th>from, {fleetZone()}</Table.Th>
              <Table.Th>to</Table.Th>
              <Table.Th>over</Table.Th>
              <Table.Th>kind</Table.Th>
              <Table.Th>cause</Table.Th>
              <Table.Th>author</Table.Th>
              <Table.Th>
                <span className="visually-hidden">acts</span>
              </Table.Th>
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {rows.map((e) => (
              <EntryRow
                key={e.id}
                entry={e}
                isTicked={ticked.includes(e.id)}
                onTick={() =>
                  setTicked(ticked.includes(e.id) ? ticked.filter((id) => id !== e.id) : [...ticked, e.id])
                }
                onRemove={() =>
                  attempt(async () => {
                    await api.DELETE("/api/v1/logbook/{id}", { params: { path: { id: e.id } } });
                    return "Entry taken out; its history is kept.";
                  }).then(() => setGone(e))
                }
                onSaved={fresh}
              />
            ))}
          </Table.Tbody>
        </Table>
      )}
      {entries.hasNextPage && <Button onClick={() => entries.fetchNextPage()}>Show more</Button>}
    </div>
  );
}
