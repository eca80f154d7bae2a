import { Box, Button, FileButton, Table } from "@mantine/core";
import { useState } from "react";
import { type Schema, sendFile } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { Field, SelectField } from "../../parts/Field";
import { ended } from "../../parts/jobs";
import { VERDICT_WORDS, VerdictMark } from "../../parts/marks";
import { dayTime, figure, plural } from "../../parts/words";
import { fleetZone } from "../../parts/zones";
import { scopeWords } from "./EntryRow";

const SHOWN = 12;

type Look = Schema["Look"];
type TakenIn = Schema["TakenIn"];
const MATCHES = {
  skip: "leave these entries as they are",
  change: "change these entries to what the file says",
  add: "add them beside these entries",
} as const;

/** A value as it is read: moments in local time, nothing as a dash. */
function shown(name: string, value: unknown): string {
  const text = String(value ?? "");
  return name === "start" || name === "end" ? dayTime(Date.parse(text), fleetZone()) : text || "–";
}

/** A labels file: what it would do first, then all of it or nothing. */
export function Import({ onDone }: { onDone: (words: string, changes: number | null) => void }) {
  const [file, setFile] = useState<File | null>(null);
  const [zone, setZone] = useState(fleetZone());
  const [look, setLook] = useState<Look | null>(null);
  const [matches, setMatches] = useState<keyof typeof MATCHES>("skip");
  const { error, attempt } = useAttempt();
  const see = async (chosen: File, inZone: string) => {
    setFile(chosen);
    setLook(null);
    await attempt(async () => {
      setLook(await sendFile<Look>("/api/v1/logbook/import/look", chosen, { zone: inZone }));
    });
  };
  const take = async () => {
    if (!file) return;
    await attempt(async () => {
      const sent = await sendFile<TakenIn | { job: number }>("/api/v1/logbook/import", file, {
        zone,
        matches,
      });
      // Many rows are taken in by a job, whose result is the same.
      const done = "job" in sent ? ((await ended(sent.job)).result as TakenIn) : sent;
      const parts = [
        done.added && `${plural(done.added, "entry", "entries")} taken in`,
        done.changed && `${plural(done.changed, "entry", "entries")} changed`,
        done.skipped && `${figure(done.skipped)} left out`,
      ].filter(Boolean);
      onDone(`From ${file.name}: ${parts.join(", ") || "nothing new"}.`, done.change_set);
    });
  };
  const nothing = look !== null && look.new === 0 && (look.changes === 0 || matches === "skip");
  return (
    <Box component="section" pb={12} mb={8} className="under" aria-label="Import labels">
      <p>
        <FileButton
          accept=".csv,.json,.ics"
          inputProps={{ "aria-label": "Labels file" }}
          onChange={(chosen) => void (chosen && see(chosen, zone))}
        >
          {(props) => <Button {...props}>{file ? file.name : "Choose a file of labels"}</Button>}
        </FileButton>{" "}
        <span className="soft">CSV, JSON or a calendar (.ics); stamps without a zone are in</span>{" "}
        <Field
          className="word"
          aria-label="Zone of the file's stamps"
          value={zone}
          onChange={(e) => setZone(e.target.value)}
          onBlur={() => file && void see(file, zone)}
        />
      </p>
      {error !== null && <Trouble error={error} />}
      {look && (
        <>
          <p>
            <strong>{figure(look.new)}</strong> new, <strong>{figure(look.changes)}</strong> about entries
            that stand here otherwise, {figure(look.same)} stand here already.
          </p>
          {look.rows.length > 0 && (
            <Table className="rows">
              <Table.Thead>
                <Table.Tr>
                  <Table.Th className="figure">row</Table.Th>
                  <Table.Th>verdict</Table.Th>
                  <Table.Th>from, {fleetZone()}</Table.Th>
                  <Table.Th>to</Table.Th>
                  <Table.Th>over</Table.Th>
                  <Table.Th>what it does</Table.Th>
                </Table.Tr>
              </Table.Thead>
              <Table.Tbody>
                {look.rows.slice(0, SHOWN).map((r) => (
                  <Table.Tr key={r.number}>
                    <Table.Td className="figure">{r.number}</Table.Td>
                    <Table.Td className="nowrap">
                      <VerdictMark verdict={r.verdict} /> {VERDICT_WORDS[r.verdict]}
                    </Table.Td>
                    <Table.Td>{dayTime(r.start, fleetZone())}</Table.Td>
                    <Table.Td>{dayTime(r.end, fleetZone())}</Table.Td>
                    <Table.Td>{scopeWords(r.scope)}</Table.Td>
                    <Table.Td>
                      {r.state === "new"
                        ? ["new", r.cause || r.note].filter(Boolean).join(": ")
                        : r.changed
                            .map((c) => `${c.name}: ${shown(c.name, c.before)} → ${shown(c.name, c.after)}`)
                            .join("; ")}
                    </Table.Td>
                  </Table.Tr>
                ))}
              </Table.Tbody>
            </Table>
          )}
          {look.new + look.changes > SHOWN && (
            <p className="soft small">and {figure(look.new + look.changes - SHOWN)} more</p>
          )}
          {look.changes > 0 && (
            <p>
              Where a row is about an entry that stands here otherwise,{" "}
              <SelectField
                className="word"
                aria-label="What becomes of them"
                value={matches}
                onChange={(e) => setMatches(e.target.value as keyof typeof MATCHES)}
              >
                {Object.entries(MATCHES).map(([name, words]) => (
                  <option key={name} value={name}>
                    {words}
                  </option>
                ))}
              </SelectField>
              .
            </p>
          )}
          <Button variant="filled" disabled={nothing} onClick={take}>
            Take it in
          </Button>{" "}
          {nothing && <span className="soft">There is nothing to take in.</span>}
        </>
      )}
    </Box>
  );
}
