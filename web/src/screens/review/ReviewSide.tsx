import { Button, Checkbox, Group, Stack } from "@mantine/core";
import type { RefObject } from "react";
import { Link } from "react-router";
import { Trouble } from "../../parts/ask";
import { AreaField, Field } from "../../parts/Field";
import { type Choice, Verdicts } from "../../parts/Verdicts";
import { plural } from "../../parts/words";
import type { RoundWork } from "./useRound";
import { agreementWords, estimateWords, type Item, type Round } from "./words";

/** The question on an item, and where the answer is written. */
export function ReviewSide({
  round,
  work,
  choices,
  causeField,
  noteField,
}: {
  round: Round;
  work: RoundWork;
  choices: Choice[];
  causeField: RefObject<HTMLInputElement | null>;
  noteField: RefObject<HTMLTextAreaElement | null>;
}) {
  const { item, isBusy } = work;
  return (
    <Stack component="aside" gap={12} p="14px 18px" className="side scrolls">
      <p className="soft small">
        {estimateWords(round)} {agreementWords(round)}
      </p>
      <h2>{round.kind === "unflagged" ? "Is anything there?" : "What was it?"}</h2>
      <Verdicts choices={choices} judge={work.judge} isOff={!item || isBusy} />
      {item?.incident && <Rest incident={item.incident} isOn={work.isForRest} setOn={work.setForRest} />}
      {work.error !== null && <Trouble error={work.error} />}
      <label>
        Cause <kbd>C</kbd>
        <Field
          ref={causeField}
          w="100%"
          list="causes"
          maxLength={500}
          value={work.cause}
          onChange={(e) => work.setCause(e.target.value)}
          onKeyDown={(e) => (e.key === "Enter" || e.key === "Escape") && e.currentTarget.blur()}
        />
      </label>
      <label>
        Note <kbd>N</kbd>
        <AreaField
          ref={noteField}
          w="100%"
          rows={2}
          value={work.note}
          onChange={(e) => work.setNote(e.target.value)}
          onKeyDown={(e) => e.key === "Escape" && e.currentTarget.blur()}
        />
      </label>
      <Group gap="6px 18px">
        <Button onClick={() => void work.undo()} disabled={isBusy}>
          Undo
        </Button>
        <Button onClick={work.skip} disabled={!item || isBusy}>
          Skip
        </Button>
        <span className="soft small" role="status">
          {work.report}
        </span>
      </Group>
      <p className="soft small">
        <kbd>[</kbd> <kbd>]</kbd> start · <kbd>{"{"}</kbd> <kbd>{"}"}</kbd> end · <kbd>S</kbd> cut in two,{" "}
        <kbd>&lt;</kbd> <kbd>&gt;</kbd> move the cut · <kbd>M</kbd> join the next · <kbd>L</kbd> looked
        through · <kbd>→</kbd> skip · <kbd>Z</kbd> undo
      </p>
    </Stack>
  );
}

function Rest({
  incident,
  isOn,
  setOn,
}: {
  incident: NonNullable<Item["incident"]>;
  isOn: boolean;
  setOn: (isOn: boolean) => void;
}) {
  return (
    <Group component="label" gap={8} align="baseline">
      <Checkbox size="xs" checked={isOn} onChange={(e) => setOn(e.target.checked)} />
      <span>
        <kbd>R</kbd> The same for the other {incident.open} of{" "}
        <Link
          to={incident.id === null ? `/incidents/proposed/${incident.finding}` : `/incidents/${incident.id}`}
        >
          {incident.title}
        </Link>
        <span className="soft small">
          {" "}
          {plural(incident.streams, "stream")}, {incident.state}
        </span>
      </span>
    </Group>
  );
}
