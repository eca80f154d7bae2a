import { useInfiniteQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useRef, useState } from "react";
import { useSearchParams } from "react-router";
import { api, type Entry, get, Problem, sendFile, type Verdict } from "../../api/client";
import { TopBar } from "../../frame";
import { Trouble, Waiting } from "../../parts/ask";
import { FilterField } from "../../parts/FilterField";
import { VERDICT_WORDS, VerdictMark } from "../../parts/marks";
import { dayTime, plural, utc } from "../../parts/words";
import { History } from "./History";
import "./logbook.css";

const LOCAL = Intl.DateTimeFormat().resolvedOptions().timeZone;
const VERDICT_LIST = Object.keys(VERDICT_WORDS) as Verdict[];

/** The annotated history as a list: filter, write, correct, take out, import and export. */
export default function Logbook() {
  const client = useQueryClient();
  const [params, setParams] = useSearchParams();
  const verdict = params.get("verdict") ?? "";
  const text = params.get("text") ?? "";
  const [isAdding, setAdding] = useState(false);
  const [told, setTold] = useState("");
  const [error, setError] = useState<unknown>(null);
  const [gone, setGone] = useState<Entry | null>(null);
  const file = useRef<HTMLInputElement>(null);
  const entries = useInfiniteQuery({
    queryKey: ["logbook", verdict, text],
    queryFn: ({ pageParam }) =>
      get(
        api.GET("/api/v1/logbook", {
          params: { query: { verdict: verdict || undefined, text: text || undefined, cursor: pageParam } },
        }),
      ),
    initialPageParam: 0,
    getNextPageParam: (page) => page.next,
  });
  const set = (name: string, value: string) => {
    const next = new URLSearchParams(params);
    if (value) next.set(name, value);
    else next.delete(name);
    setParams(next, { replace: true });
  };
  const fresh = () => client.invalidateQueries({ queryKey: ["logbook"] });
  const attempt = async (work: () => Promise<string>) => {
    setError(null);
    setTold("");
    try {
      setTold(await work());
      fresh();
    } catch (problem) {
      setError(problem);
    }
  };
  const take = (chosen: File) =>
    attempt(async () => {
      const { added, skipped } = await sendFile<{ added: number; skipped: number }>(
        "/api/v1/logbook/import",
        chosen,
      );
      return `${plural(added, "entry", "entries")} taken in from ${chosen.name}${skipped ? `; ${skipped} stood there already` : ""}.`;
    });
  const remove = (entry: Entry) =>
    attempt(async () => {
      await api.DELETE("/api/v1/logbook/{id}", { params: { path: { id: entry.id } } });
      setGone(entry);
      return "Entry taken out; its history is kept.";
    });
  const rows = entries.data?.pages.flatMap((p) => p.entries) ?? [];
  const total = entries.data?.pages[0]?.total ?? 0;
  return (
    <div className="padded">
      <TopBar>
        <h1>Logbook</h1>
        <span className="soft">
          {plural(total, "entry", "entries")}, version {entries.data?.pages[0]?.version ?? 0}
        </span>
      </TopBar>
      <div className="logbook-tools">
        <label>
          Verdict{" "}
          <select className="word" value={verdict} onChange={(e) => set("verdict", e.target.value)}>
            <option value="">any</option>
            {VERDICT_LIST.map((v) => (
              <option key={v} value={v}>
                {VERDICT_WORDS[v]}
              </option>
            ))}
          </select>
        </label>
        <FilterField
          label="Filter entries"
          hint="Filter: cause, note, scope …"
          value={text}
          onChange={(value) => set("text", value)}
        />
        <span style={{ flex: 1 }} />
        <button type="button" className="act" onClick={() => setAdding(!isAdding)} aria-expanded={isAdding}>
          Write an entry
        </button>
        <button type="button" className="act" onClick={() => file.current?.click()}>
          Import labels
        </button>
        <input
          ref={file}
          type="file"
          accept=".csv,.json"
          hidden
          aria-label="Labels file"
          onChange={(e) => {
            const chosen = e.target.files?.[0];
            if (chosen) void take(chosen);
            e.target.value = "";
          }}
        />
        <a className="act" href="/api/v1/logbook/export" download>
          Export CSV
        </a>
        <a className="act" href="/api/v1/logbook/export?kind=json" download>
          Export JSON
        </a>
      </div>
      {told && (
        <p role="status">
          {told}{" "}
          {gone && (
            <button
              type="button"
              className="act"
              onClick={() =>
                attempt(async () => {
                  await api.POST("/api/v1/logbook/{id}/restore", { params: { path: { id: gone.id } } });
                  setGone(null);
                  return "Put back.";
                })
              }
            >
              Put it back
            </button>
          )}
        </p>
      )}
      {error !== null && <Trouble error={error} />}
      {isAdding && (
        <NewEntry
          onDone={() => {
            setAdding(false);
            fresh();
          }}
        />
      )}
      {entries.isPending && <Waiting what="Reading the logbook" />}
      {entries.isError && <Trouble error={entries.error} retry={() => entries.refetch()} />}
      {entries.data && rows.length === 0 && (
        <div className="empty">
          <h2>{verdict || text ? "Nothing matches" : "The logbook is empty"}</h2>
          <p>Verdicts given in review land here; a labels file with a start column can be imported.</p>
        </div>
      )}
      {rows.length > 0 && (
        <table className="rows">
          <thead>
            <tr>
              <th>verdict</th>
              <th>from, {LOCAL}</th>
              <th>to</th>
              <th>over</th>
              <th>kind</th>
              <th>cause</th>
              <th>author</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {rows.map((e) => (
              <EntryRow key={e.id} entry={e} onRemove={() => remove(e)} onSaved={fresh} />
            ))}
          </tbody>
        </table>
      )}
      {entries.hasNextPage && (
        <button type="button" className="act" onClick={() => entries.fetchNextPage()}>
          Show more
        </button>
      )}
    </div>
  );
}

function EntryRow({ entry, onRemove, onSaved }: { entry: Entry; onRemove: () => void; onSaved: () => void }) {
  const [error, setError] = useState<unknown>(null);
  const [isOpen, setOpen] = useState(false);
  const save = async (changes: Partial<Entry>) => {
    setError(null);
    try {
      await api.PATCH("/api/v1/logbook/{id}", {
        params: { path: { id: entry.id } },
        body: { ...entry, ...changes },
      });
      onSaved();
    } catch (problem) {
      setError(problem);
    }
  };
  const from = Date.parse(entry.start);
  const to = Date.parse(entry.end);
  const words = entry.cause || entry.scope || "every stream";
  return (
    <>
      <tr>
        <td style={{ whiteSpace: "nowrap" }}>
          <VerdictMark verdict={entry.verdict} />{" "}
          <select
            className="word"
            aria-label={`Verdict, ${entry.cause || entry.scope}`}
            value={entry.verdict}
            onChange={(e) => save({ verdict: e.target.value as Verdict })}
          >
            {VERDICT_LIST.map((v) => (
              <option key={v} value={v}>
                {VERDICT_WORDS[v]}
              </option>
            ))}
          </select>
          {error !== null && <Trouble error={error} />}
        </td>
        <td title={utc(from)}>{dayTime(from, LOCAL)}</td>
        <td title={utc(to)}>{dayTime(to, LOCAL)}</td>
        <td>{entry.scope ? entry.scope.replaceAll(",", ", ").replaceAll("=", " ") : "every stream"}</td>
        <td>{entry.kind}</td>
        <td>
          <input
            className="in-place"
            aria-label={`Cause, ${entry.scope}`}
            defaultValue={entry.cause}
            onBlur={(e) => e.target.value !== entry.cause && save({ cause: e.target.value })}
            onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
          />
        </td>
        <td className="soft">
          {entry.author}
          {entry.origin === "finding" ? ", in review" : ""}
        </td>
        <td style={{ whiteSpace: "nowrap" }}>
          <button
            type="button"
            className="act"
            onClick={() => setOpen(!isOpen)}
            aria-expanded={isOpen}
            aria-label={`History of ${words}`}
          >
            History
          </button>{" "}
          <button type="button" className="act" onClick={onRemove} aria-label={`Take out ${words}`}>
            Take out
          </button>
        </td>
      </tr>
      {isOpen && (
        <tr>
          <td colSpan={8}>
            <History entry={entry} onReturned={onSaved} />
          </td>
        </tr>
      )}
    </>
  );
}

function NewEntry({ onDone }: { onDone: () => void }) {
  const [error, setError] = useState<unknown>(null);
  const submit = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const moment = (name: string) => {
      const local = String(form.get(name) ?? "");
      return local ? new Date(local).toISOString() : "";
    };
    setError(null);
    try {
      if (!moment("start"))
        throw new Problem(400, "an entry needs a start", "from", "choose a day and a time");
      await api.POST("/api/v1/logbook", {
        body: {
          scope: String(form.get("scope") ?? ""),
          start: moment("start"),
          end: moment("end") || moment("start"),
          verdict: String(form.get("verdict")) as Verdict,
          cause: String(form.get("cause") ?? ""),
        },
      });
      onDone();
    } catch (problem) {
      setError(problem);
    }
  };
  return (
    <form onSubmit={submit} className="new-entry" aria-label="New entry">
      <label>
        Verdict
        <select name="verdict" className="field">
          {VERDICT_LIST.map((v) => (
            <option key={v} value={v}>
              {VERDICT_WORDS[v]}
            </option>
          ))}
        </select>
      </label>
      <label>
        From, {LOCAL}
        <input className="field" type="datetime-local" name="start" required />
      </label>
      <label>
        To
        <input className="field" type="datetime-local" name="end" />
      </label>
      <label style={{ flex: 1 }}>
        Over (empty: every stream)
        <input className="field" name="scope" placeholder="metric=gate_taps,place=Gullhaven" />
      </label>
      <label style={{ flex: 1 }}>
        Cause
        <input className="field" name="cause" />
      </label>
      <button type="submit" className="primary">
        Write it down
      </button>
      {error !== null && <Trouble error={error} />}
    </form>
  );
}
