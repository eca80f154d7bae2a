import { Button, Checkbox, Table } from "@mantine/core";
import { useState } from "react";
import { api, type Entry, onlyIf, type Verdict } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { Field, SelectField } from "../../parts/Field";
import { VERDICT_WORDS, VerdictMark } from "../../parts/marks";
import { dayTime, utc } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { History } from "./History";
import logbookCss from "./logbook.module.css";

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
  const { error, attempt } = useAttempt();
  const [isOpen, setOpen] = useState(false);
  const save = async (changes: Partial<Entry>) => {
    await attempt(async () => {
      await api.PATCH("/api/v1/logbook/{id}", {
        params: { path: { id: entry.id } },
        body: { ...entry, ...changes },
        ...onlyIf(entry),
      });
      onSaved();
    });
  };
  const from = entry.start;
  const to = entry.end;
  const words = entry.cause || entry.scope || "every stream";
  return (
    <>
      <Table.Tr>
        <Table.Td>
          <Checkbox size="xs" checked={isTicked} onChange={onTick} aria-label={`Tick ${words}`} />
        </Table.Td>
        <Table.Td className="nowrap">
          <VerdictMark verdict={entry.verdict} />{" "}
          <SelectField
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
          </SelectField>
          {error !== null && <Trouble error={error} />}
        </Table.Td>
        <Table.Td title={utc(from)}>{dayTime(from, fleetZone())}</Table.Td>
        <Table.Td title={utc(to)}>{dayTime(to, fleetZone())}</Table.Td>
        <Table.Td>{scopeWords(entry.scope ?? "")}</Table.Td>
        <Table.Td>{entry.kind}</Table.Td>
        <Table.Td>
          <Field
            className={logbookCss.inPlace}
            aria-label={`Cause, ${entry.scope}`}
            defaultValue={entry.cause}
            placeholder={entry.note}
            onBlur={(e) => e.target.value !== entry.cause && save({ cause: e.target.value })}
            onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
          />
        </Table.Td>
        <Table.Td className="soft">
          {entry.author}
          {entry.origin === "finding" ? ", in review" : ""}
        </Table.Td>
        <Table.Td className="nowrap">
          <Button onClick={() => setOpen(!isOpen)} aria-expanded={isOpen} aria-label={`History of ${words}`}>
            History
          </Button>{" "}
          <Button onClick={onRemove} aria-label={`Take out ${words}`}>
            Take out
          </Button>
        </Table.Td>
      </Table.Tr>
      {isOpen && (
        <Table.Tr>
          <Table.Td colSpan={9}>
            <History entry={entry} onReturned={onSaved} />
          </Table.Td>
        </Table.Tr>
      )}
    </>
  );
}
