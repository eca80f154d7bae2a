import { Button, Group } from "@mantine/core";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, get, type Verdict } from "../../api/client";
import { Trouble } from "../../parts/ask";
import { useAttempt } from "../../parts/attempt";
import { Field, SelectField } from "../../parts/Field";
import { VERDICT_WORDS } from "../../parts/marks";
import { plural } from "../../parts/words";

const VERDICT_LIST = Object.keys(VERDICT_WORDS) as Verdict[];

/** What can be done with all ticked entries in one go. */
export function Bulk({
  entries,
  onDone,
  onForget,
}: {
  entries: number[];
  onDone: (words: string, changes: number) => void;
  onForget: () => void;
}) {
  const navigate = useNavigate();
  const [cause, setCause] = useState("");
  const { error, attempt } = useAttempt();
  const count = plural(entries.length, "entry", "entries");
  const change = async (body: { verdict?: Verdict; cause?: string; take_out?: boolean }, words: string) => {
    await attempt(async () => {
      const done = await get(
        api.POST("/api/v1/logbook/bulk", { body: { take_out: false, ...body, entries } }),
      );
      onDone(`${count} ${words}.`, done.id);
    });
  };
  const effect = async (asDays: boolean) => {
    await attempt(async () => {
      const told = await get(
        api.POST("/api/v1/logbook/effect", { body: { entries, as_known_days: asDays } }),
      );
      navigate(`/logbook/effect?before=${told.before}&after=${told.after}`);
    });
  };
  return (
    <Group
      gap="8px 18px"
      align="baseline"
      p="7px 10px"
      pos="sticky"
      top={0}
      bg="var(--select)"
      className="bulk front"
      role="toolbar"
      aria-label="Ticked entries"
    >
      <strong>{count} ticked:</strong>
      <label>
        make them{" "}
        <SelectField
          className="word"
          value=""
          onChange={(e) =>
            change({ verdict: e.target.value as Verdict }, `made ${VERDICT_WORDS[e.target.value]}`)
          }
        >
          <option value="">…</option>
          {VERDICT_LIST.map((v) => (
            <option key={v} value={v}>
              {VERDICT_WORDS[v]}
            </option>
          ))}
        </SelectField>
      </label>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          if (cause) void change({ cause }, `caused by ${cause}`);
        }}
      >
        <label>
          cause <Field value={cause} onChange={(e) => setCause(e.target.value)} w="18ch" />
        </label>{" "}
        <Button type="submit" disabled={!cause}>
          Set
        </Button>
      </form>
      <Button onClick={() => change({ take_out: true }, "taken out")}>Take out</Button>
      <Button
        title="The standing plan once more, with the logbook as it is now left out of training"
        onClick={() => effect(false)}
      >
        What do they change?
      </Button>
      <Button
        title="The plan with these entries as days it knows of, such as holidays"
        onClick={() => effect(true)}
      >
        Try them as known days
      </Button>
      <Button onClick={onForget}>Untick</Button>
      {error !== null && <Trouble error={error} />}
    </Group>
  );
}
