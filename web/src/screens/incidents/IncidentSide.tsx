import { Button, Group, Stack } from "@mantine/core";
import { type RefObject, useContext } from "react";
import type { Incident } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { AreaField, Field } from "../../parts/Field";
import { VERDICT_WORDS } from "../../parts/marks";
import { PersonName } from "../../parts/person";
import { VERDICTS, Verdicts } from "../../parts/Verdicts";
import { begun, plural } from "../../parts/words";
import { History } from "./History";
import type { IncidentWork } from "./useIncident";

/** What is to be decided on an incident: whether it is one, what it was, and what is known of it. */
export function IncidentSide({
  incident,
  work,
  causeField,
}: {
  incident: Incident;
  work: IncidentWork;
  causeField: RefObject<HTMLInputElement | null>;
}) {
  const { error, isBusy, given, pending, cause } = work;
  const id = incident.id;
  return (
    <Stack component="aside" gap={12} p="14px 18px" className="side scrolls">
      {id === null ? <Proposed work={work} /> : <Kept incident={incident} work={work} />}
      <h2>What was it?</h2>
      <p className="soft small">
        {incident.open
          ? `One verdict for ${incident.open === incident.findings ? "all" : "the"} ${plural(incident.open, "finding")} without one.`
          : "Every finding has its verdict; the logbook changes them."}
      </p>
      <Verdicts choices={VERDICTS} judge={work.judge} isOff={isBusy || incident.open === 0} />
      {pending && (
        <p role="alert">
          This writes {plural(incident.open, "entry", "entries")} “{VERDICT_WORDS[pending.verdict]}” into the
          logbook, one over each finding's span{cause && `, with the cause “${cause}”`}.{" "}
          <Button variant="filled" onClick={() => work.judge(pending)} disabled={isBusy}>
            Write {plural(incident.open, "entry", "entries")}
          </Button>{" "}
          <Button onClick={work.leave}>Leave it</Button>
        </p>
      )}
      <label>
        Cause <kbd>C</kbd>
        <Field
          ref={causeField}
          w="100%"
          value={cause}
          maxLength={500}
          onChange={(e) => work.setCause(e.target.value)}
          onBlur={() => id !== null && cause !== incident.cause && void work.change({ cause })}
          onKeyDown={(e) => (e.key === "Enter" || e.key === "Escape") && e.currentTarget.blur()}
        />
      </label>
      {given && (
        <p role="status">
          {begun(given.words)}.{" "}
          <Button onClick={() => void work.undo()} disabled={isBusy}>
            Take back
          </Button>{" "}
          <kbd>Z</kbd>
        </p>
      )}
      {error !== null && <Trouble error={error} />}
      {id !== null && (
        <>
          <label>
            Note
            <AreaField
              w="100%"
              rows={3}
              defaultValue={incident.note}
              onBlur={(e) => e.target.value !== incident.note && void work.change({ note: e.target.value })}
            />
          </label>
          <History incident={incident} />
        </>
      )}
    </Stack>
  );
}

function Proposed({ work }: { work: IncidentWork }) {
  return (
    <>
      <p>These findings go together in time and share something. Is it one thing?</p>
      <Group gap="6px 18px">
        <Button variant="filled" disabled={work.isBusy} onClick={() => void work.keep()}>
          Keep as an incident
        </Button>
        <Button disabled={work.isBusy} onClick={() => void work.setApart()}>
          It is not one thing
        </Button>
      </Group>
    </>
  );
}

function Kept({ incident, work }: { incident: Incident; work: IncidentWork }) {
  const me = useContext(PersonName);
  const isOpen = incident.state === "open";
  const isMine = incident.taken_by === me;
  return (
    <>
      <label>
        What happened
        <Field
          w="100%"
          defaultValue={incident.title}
          maxLength={200}
          onBlur={(e) => e.target.value !== incident.title && void work.change({ title: e.target.value })}
          onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
        />
      </label>
      <Group gap="6px 18px">
        {isOpen && (
          <Button onClick={() => void work.change({ take: !isMine })}>
            {isMine ? "Let go" : incident.taken_by ? "Take over" : "Assign to me"}
          </Button>
        )}
        <Button onClick={() => void work.change({ state: isOpen ? "closed" : "open" })}>
          {isOpen ? "Close" : "Open again"}
        </Button>
      </Group>
    </>
  );
}
