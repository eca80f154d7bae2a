import { useState } from "react";
import { api, type Entry, onlyIf, type Verdict } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { VERDICT_WORDS, VerdictMark } from "../../parts/marks";
import { dayTime, LOCAL, utc } from "../../parts/words";
import { History } from "./History";

const VERDICT_LIST = Object.keys(VERDICT_WORDS) as Verdict[];

export function scopeWords(scope: string): string {
  return scope
    ? scope
        .replace(/(^|,)metric=/, "$1")
        .replaceAll(",", ", ")
        .replaceAll("=", " ")
    : "every stream";
}

/** One entry: verdict and cause are changed in place, its history unfolds under it. */
export function EntryRow({
  entry,
  isTicked,
  onTick,
  onRemove,
  onSaved,
}: {
  entry: Entry;
  isTicked: boolean;
  onTick: () => void;
  onRemove: () => void;
  onSaved: () => void;
}) {
  const [error, setError] = useState<unknown>(null);
  const [isOpen, setOpen] = useState(false);
  const save = async (changes: Partial<Entry>) => {
    setError(null);
    try {
      await api.PATCH("/api/v1/logbook/{id}", {
        params: { path: { id: entry.id } },
        body: { ...entry, ...changes },
        ...onlyIf(entry),
      });
      onSaved();
    } catch (problem) {
      setError(problem);
    }
  };
  const from = entry.start;
  const to = entry.end;
  const words = entry.cause || entry.scope || "every stream";
  return (
    <>
      <tr>
        <td>
          <input type="checkbox" checked={isTicked} onChange={onTick} aria-label={`Tick ${words}`} />
        </td>
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
        <td>{scopeWords(entry.scope ?? "")}</td>
        <td>{entry.kind}</td>
        <td>
          <input
            className="in-place"
            aria-label={`Cause, ${entry.scope}`}
            defaultValue={entry.cause}
            placeholder={entry.note}
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
          <td colSpan={9}>
            <History entry={entry} onReturned={onSaved} />
          </td>
        </tr>
      )}
    </>
  );
}
